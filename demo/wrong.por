-- Degree-minutes again, with five mistakes: `porphyry check wrong.por` names them all at once.
module wrong

func chill(temps: ptr, n: i64, base: f32) -> f32 {
enter:
  some = gt.s n, 0
  when some go sum(0) else out(0.0)

sum(i: i64, total: f32):
  t     = laod f32 [temps + i*4]
  short = sub base, n
  gap   = max base, 0
  next  = add totl, gap
  i2    = add i, 1
  more  = lt.s i2, n
  when more go sum(i2, next) else out(next)

out(result: f32):
  return result
}
