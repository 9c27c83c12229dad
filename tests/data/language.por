-- Every form of the text, as the writer writes it.
module "frost watch"
layout little
source 1 "frost.fml"
source 2 "posts.fml"

-- what the source says about memory
kinds orchard {
  cell
  -- counts are whole
  count under cell align 4
  degree under cell align 4
  "odd kind" under count
  record Reading size 12 { 0 tally: count, 4 dry: degree, 8 wet: degree }
  record Night size 40 { 0 first: Reading, 16 last: Reading }
-- nothing follows
}

kinds other {
  thing
}

data thresholds const align 4 holds i32: -2, 0, 3
local data scratch align 64 holds zero: 256
weak section "orchard" data routes holds address: chill, thresholds; f64: 0.5; bytes: "frost\0"
data wide holds i128: 170141183460469231731687303715884105727, -1; i24: 1, -8388608
data lanes holds f32[4]: {1.0, 2.0, 3.0, 4.0}, 0.5; bool[12]: {true, false, true, false, true, false, true, false, true, false, true, false}
extern data sky
extern func pow(f64, f64) -> f64 pure
extern func take(i64) -> ptr returns, allocates
extern func give(ptr) frees
extern func report(ptr const, ...) -> i32 reads, writes nothing

-- degree-minutes below `base` over `n` samples
func chill(temps: ptr sole const, n: i64, base: f32 secret) -> f32 permit reorder, fuse keep small prefer inline {
enter:
  some = gt.s n, 0
  when some likely go sum(0, 0.0) else out(0.0)

sum(i: i64, total: f32):
  t     = load f32 [temps + i*4] as orchard.degree    @1:14:17
  short = sub base, t                                 @1:14:25 in @2:3:4 in @2:5:6
  gap   = max short, 0.0                              @1:14:25 and @2:9:9 in @2:1:1 and @1:1:1
  next  = add total, gap permit nonan, noinf
  watch total = next
  i2    = add i, 1 promise fits.s, fits.u
  more  = lt.s i2, n
  when more 970 go sum(i2, next) else out(next) 30

out(result: f32):
  return result
}

weak section ".frost" func accesses(p: ptr, q: ptr, m: bool[8], i: i64) -> i32 never inline {
enter:
  a   = load i32 [p] align 8 as orchard.Reading.tally volatile
  b   = load i32 [p + i*12 + 4] as const orchard.Night.last.wet
  c   = load i32 [p - 8] align 1 as orchard.count early
  d   = load i32[8] [p + i] where m else {1, 2, 3, 4, 5, 6, 7, 8}
  e   = load i32[8] [p + 3*4 - 2] where {true, false, true, false, true, false, true, false} else 0 align 4
  store d, [q] where m as other.thing volatile
  store 1:i8, [p + i*3 + 1]
  store {1, 2}:i16[2], [p] align 2 as orchard."odd kind"
  store 0.5:f32[4], [p]
  copy [p + i*2 + 1], [q + i - 1], 64
  copy [p], [q], i
  fill 0:i8, [p + i*8], 100
  r   = reserve 64 align 16
  renew r, 64
  release r
  s   = sole p
  at1 = at [s + i*3 - 7]
  end s
  x   = address of chill
  y   = address of sky
  return a
}

func plain(a: i7, b: i128, c: f64, v: i16[8], w: f32[4], p: ptr) -> i7, i128, bool {
enter:
  d, carry  = add.carry a, a, true
  e, borrow = sub.borrow a, 3, carry
  lo, hi    = mul.wide.u b, -1
  g, over   = mul.over.s v, 2
  h         = add.sat.s 5:i7, 6
  j         = splat f64[2] 1.5
  k         = splat i16[8] 3
  l         = lane v, 3
  m         = lane {1, 2, 3}:i24[3], 1:i64
  n         = put v, 9, -1
  o         = shuffle v, k, {0, 8, 15}
  q         = interleave w, 1.0
  r         = sum w permit reorder
  s         = least.u v
  t         = greatest w
  u         = any over
  x         = pick u, v, k
  y         = pick over, v, {1, 2, 3, 4, 5, 6, 7, 8}
  z         = bits i128 v
  aa        = bits ptr 5:i64
  bb        = fma w, {1.0, 2.0, 3.0, 4.5}, w
  cc        = shr.s v, 3 promise lossless, bounded
  dd        = or a, -64 promise separate
  ee        = narrow i7 b
  ff        = bits i3[3] -1:i9
  gg        = pick true, {nan(0x12), inf, -nan, -0.0}, w
  return ee, hi, u
}

local func routes_of(f: ptr, v: i64) -> i64 {
enter:
  a    = call [f](v, 3:i32) -> i64
  b, c = call [f]() -> i64, f32
  call [f](f)
  d    = call report(null, v, 0.5:f64)
  choose v { 0: far(a) 17, -9223372036854775808: near, 4: far(b), else: near 3 }

far(x: i64):
  return call routes_of(f, x)

near:
  e = div.s v, a promise lossless, nonzero
  go last(e) 12

last(y: i64):
  choose y { else: done }

done:
  return call [f](y)
}
-- the end
