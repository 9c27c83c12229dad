-- Sixteen readings at a time, more than a register of the processor holds: legalization takes them apart.
module night
layout little

-- The sum of `groups` times sixteen readings above `base`, each counted by how far it lies above.
func warmth(temps: ptr, groups: i64, base: f32) -> f32 {
enter:
  start = splat f32[16] base
  zero  = splat f32[16] 0.0
  go group(0, temps, zero)

group(k: i64, from: ptr, sums: f32[16]):
  t     = load f32[16] [from] align 4
  above = sub t, start
  gap   = max above, zero
  next  = add sums, gap
  from2 = at [from + 64]
  k2    = add k, 1
  more  = lt.s k2, groups
  when more go group(k2, from2, next) else done

done:
  total = sum next
  return total
}
