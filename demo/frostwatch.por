-- Frost watch: kernels that run on the base station of an orchard's sensor posts.
-- Each one is called in tour.txt on the readings of one night.
module frostwatch
layout little
source 1 "frost.fml"

-- how many readings in a row below a limit raise the alarm, and how many above it end it
data patience const align 4 holds i32: 3, 2

-- by post: the next one on the way to the base station, which is its own next one
data hops const align 2 holds i16: 0, 0, 1, 1, 3, 2, 4, 6, 7, 5, 9, 10

-- a cubic through four readings, evaluated between the two in the middle: one row a power of the fraction
data spline const align 16 holds f32: 0.0, 1.0, 0.0, 0.0, -0.5, 0.0, 0.5, 0.0, 1.0, -2.5, 2.0, -0.5, -0.5, 1.5, -1.5, 0.5

-- Two 12-bit samples lie in three bytes: low byte, high and low nibble, high byte. Unpacks `pairs` of them into
-- 16-bit words.
func unpack(frame: ptr, out: ptr, pairs: i64) -> i64 {
enter:
  some = gt.s pairs, 0
  when some go pair(0, frame, out) else done

pair(k: i64, from: ptr, to: ptr):
  a      = load i8 [from]        @1:10:9
  b      = load i8 [from + 1]    @1:11:9
  c      = load i8 [from + 2]    @1:12:9
  a16    = widen.u i16 a
  b16    = widen.u i16 b
  c16    = widen.u i16 c
  low    = and b16, 15
  up     = shl low, 8
  first  = or a16, up            @1:13:5
  high   = shr.u b16, 4
  c4     = shl c16, 4
  second = or c4, high           @1:14:5
  store first, [to]              @1:15:5
  store second, [to + 2]         @1:16:5
  from2  = at [from + 3]
  to2    = at [to + 4]
  k2     = add k, 1
  more   = lt.s k2, pairs
  when more go pair(k2, from2, to2) else done

done:
  samples = shl pairs, 1
  return samples
}

-- Fletcher's checksum of a frame, modulo 255: two running sums.
func checksum(frame: ptr, n: i64) -> i32 {
enter:
  some = gt.s n, 0
  when some go byte(0, 0, 0) else done(0, 0)

byte(i: i64, a: i32, b: i32):
  v    = load i8 [frame + i]
  v32  = widen.u i32 v
  sum  = add a, v32
  a2   = rem.u sum, 255
  both = add b, a2
  b2   = rem.u both, 255
  i2   = add i, 1
  more = lt.s i2, n
  when more go byte(i2, a2, b2) else done(a2, b2)

done(x: i32, y: i32):
  high = shl y, 8
  code = or high, x
  return code
}

-- Degree-minutes below `base`: how much cold the blossoms took, `minutes` apart.
func chill(temps: ptr, n: i64, base: f32, minutes: f32) -> f32 {
enter:
  some = gt.s n, 0
  when some go sum(0, 0.0) else out(0.0)

sum(i: i64, total: f32):
  t     = load f32 [temps + i*4]    @1:24:17
  short = sub base, t               @1:24:25
  gap   = max short, 0.0            @1:24:14
  next  = add total, gap            @1:24:5
  watch total = next                @1:24:5
  i2    = add i, 1
  more  = lt.s i2, n
  when more go sum(i2, next) else out(next)

out(result: f32):
  cold = mul result, minutes    @1:26:3
  return cold
}

-- Which reading was the coldest; the first one among equals, -1 for none.
func coldest(temps: ptr, n: i64) -> i64 {
enter:
  some = gt.s n, 0
  when some go start else none

start:
  t0 = load f32 [temps]
  go look(1, 0, t0)

look(i: i64, at: i64, least: f32):
  more = lt.s i, n
  when more go step else found

step:
  t      = load f32 [temps + i*4]
  colder = lt t, least
  at2    = pick colder, i, at
  least2 = pick colder, t, least
  i2     = add i, 1
  go look(i2, at2, least2)

found:
  return at

none:
  return -1
}

-- The alarm: a state machine that starts after `patience` readings below the limit in a row and ends after some
-- above it. Writes 1 for each reading with alarm and counts them. The state lies in stack slots, as a front end
-- writes it.
func alarm(temps: ptr, n: i64, limit: f32, states: ptr) -> i32 {
enter:
  wait    = address of patience
  need    = load i32 [wait]
  relax   = load i32 [wait + 4]
  ringing = reserve 4 align 4
  streak  = reserve 4 align 4
  count   = reserve 4 align 4
  place   = reserve 8 align 8
  store 0:i32, [ringing]
  store 0:i32, [streak]
  store 0:i32, [count]
  store 0:i64, [place]
  go look

look:
  i    = load i64 [place]
  more = lt.s i, n
  when more go reading else done

reading:
  t     = load f32 [temps + i*4]    @1:41:9
  cold  = lt t, limit
  state = load i32 [ringing]
  rings = ne state, 0
  turns = ne rings, cold            @1:42:12
  run   = load i32 [streak]
  run1  = add run, 1
  run2  = pick turns, run1, 0
  bound = pick rings, relax, need
  full  = ge.s run2, bound
  when full go switch else keep

-- the streak is long enough: the state turns over
switch:
  other = xor state, 1    @1:45:7
  store other, [ringing]
  store 0:i32, [streak]
  go mark

keep:
  store run2, [streak]
  go mark

mark:
  now  = load i32 [ringing]
  flag = narrow i8 now
  store flag, [states + i]    @1:48:5
  sum  = load i32 [count]
  sum2 = add sum, now
  store sum2, [count]
  i2   = add i, 1
  store i2, [place]
  go look

done:
  total = load i32 [count]
  return total
}

-- Dew point from dry temperature and humidity (in percent), by a polynomial in place of a logarithm: good to
-- about a degree between 0 and 20 degrees, above 50 % humidity.
func dew_point(temp: f64, humidity: f64) -> f64 {
enter:
  r   = div humidity, 100.0
  m   = sub r, 1.0
  p4  = mul m, -4.0
  p3  = add p4, 5.5
  q3  = mul m, p3
  p2  = sub q3, 8.25
  q2  = mul m, p2
  p1  = add q2, 14.5
  low = mul m, p1
  d   = add temp, low
  return d
}

-- Middle of three posts, so that one post in the sun or with a broken sensor does not count.
func median(a: i16, b: i16, c: i16) -> i16 {
enter:
  low    = min.s a, b
  high   = max.s a, b
  capped = min.s high, c
  middle = max.s low, capped
  return middle
}

-- How many readings fall into each of `bins` steps of one degree from `base` on; the ends take what lies beyond.
func histogram(temps: ptr, n: i64, base: f32, counts: ptr, bins: i32) {
enter:
  last = sub bins, 1
  go look(0)

look(i: i64):
  more = lt.s i, n
  when more go reading else done

reading:
  t    = load f32 [temps + i*4]
  up   = sub t, base
  down = floor up
  bin  = to_int.s i32 down
  bin1 = max.s bin, 0
  bin2 = min.s bin1, last
  slot = widen.s i64 bin2
  old  = load i32 [counts + slot*4]
  new  = add old, 1
  store new, [counts + slot*4]
  i2   = add i, 1
  go look(i2)

done:
  return
}

-- Two probes of a post made one: the dry one and `share` of the way to the wet one.
func blend(dry: ptr, wet: ptr, n: i64, share: f32, out: ptr) -> f32 {
enter:
  go look(0, 0.0)

look(i: i64, total: f32):
  more = lt.s i, n
  when more go reading else done

reading:
  d     = load f32 [dry + i*4]
  w     = load f32 [wet + i*4]
  apart = sub w, d
  part  = mul apart, share
  t     = add d, part
  store t, [out + i*4]
  next  = add total, t
  i2    = add i, 1
  go look(i2, next)

done:
  return total
}

-- Five-tap smoothing, weights 1 4 6 4 1 of 16; at the ends the last reading stands for what lies beyond.
func smooth(temps: ptr, n: i64, out: ptr) {
enter:
  last = sub n, 1
  go look(0)

look(i: i64):
  more = lt.s i, n
  when more go reading else done

reading:
  i1    = sub i, 1
  i2    = sub i, 2
  i3    = add i, 1
  i4    = add i, 2
  at1   = max.s i1, 0
  at2   = max.s i2, 0
  at3   = min.s i3, last
  at4   = min.s i4, last
  m     = load f32 [temps + i*4]
  a     = load f32 [temps + at1*4]
  b     = load f32 [temps + at2*4]
  c     = load f32 [temps + at3*4]
  d     = load f32 [temps + at4*4]
  near  = add a, c
  far   = add b, d
  near4 = mul near, 4.0
  m6    = mul m, 6.0
  sum   = add far, near4
  sum2  = add sum, m6
  t     = mul sum2, 0.0625
  store t, [out + i*4]
  go look(i3)

done:
  return
}

-- The event log: each time the temperature crosses the limit, the number of the reading and which way it went are
-- added, as long as there is room. Gives how many events the log holds.
func crossings(temps: ptr, n: i64, limit: f32, log: ptr, room: i64) -> i64 {
enter:
  some = gt.s n, 0
  when some go start else none

start:
  t0   = load f32 [temps]
  was0 = lt t0, limit
  go look(1, was0, 0)

look(i: i64, was: bool, count: i64):
  more = lt.s i, n
  when more go reading else done

reading:
  t       = load f32 [temps + i*4]
  cold    = lt t, limit
  crosses = ne cold, was
  fits    = lt.s count, room
  writes  = and crosses, fits
  i2      = add i, 1
  when writes go event else look(i2, cold, count)

event:
  number = narrow i32 i
  way    = pick cold, -1:i32, 1
  store number, [log + count*8]
  store way, [log + count*8 + 4]
  count2 = add count, 1
  go look(i2, cold, count2)

done:
  return count

none:
  return 0
}

-- How many hops a message takes from a post to the base station; a table that leads in circles traps.
func route(post: i32, posts: i32) -> i32 {
enter:
  table = address of hops
  go step(post, 0)

step(at: i32, count: i32):
  there = eq at, 0
  when there go done else walk

walk:
  lost = gt.s count, posts
  when lost go circle else hop

hop:
  slot   = widen.s i64 at
  next   = load i16 [table + slot*2]
  next32 = widen.s i32 next
  count2 = add count, 1
  go step(next32, count2)

circle:
  trap

done:
  return count
}

-- The temperature between readings `at` and `at`+1, by a cubic through them and their neighbours: the powers of
-- the fraction times a matrix of four by four times four readings.
func between(temps: ptr, at: i64, fraction: f32) -> f32 {
enter:
  rows  = address of spline
  first = sub at, 1
  go row(0, 1.0, 0.0)

row(r: i64, power: f32, total: f32):
  base = shl r, 2
  go column(0, 0.0)

column(c: i64, dot: f32):
  cell  = add base, c
  m     = load f32 [rows + cell*4]
  place = add first, c
  t     = load f32 [temps + place*4]
  term  = mul m, t
  dot2  = add dot, term
  c2    = add c, 1
  wide  = lt.s c2, 4
  when wide go column(c2, dot2) else end_of_row

end_of_row:
  part   = mul power, dot2
  total2 = add total, part
  power2 = mul power, fraction
  r2     = add r, 1
  more   = lt.s r2, 4
  when more go row(r2, power2, total2) else done

done:
  return total2
}

-- Degrees an hour that the temperature rises over `n` readings: the slope of the line through them, by least
-- squares.
func trend(temps: ptr, n: i64, minutes: f64) -> f64 {
enter:
  enough = gt.s n, 1
  when enough go look(0, 0.0, 0.0) else none

look(i: i64, sum: f64, weighted: f64):
  t         = load f32 [temps + i*4]
  wide      = widen f64 t
  x         = to_float.s f64 i
  sum2      = add sum, wide
  step      = mul x, wide
  weighted2 = add weighted, step
  i2        = add i, 1
  more      = lt.s i2, n
  when more go look(i2, sum2, weighted2) else line

line:
  count  = to_float.s f64 n
  less   = sub count, 1.0
  middle = mul less, 0.5
  moment = mul middle, sum2
  above  = sub weighted2, moment
  square = mul count, count
  span   = sub square, 1.0
  volume = mul count, span
  below  = div volume, 12.0
  slope  = div above, below
  hours  = div 60.0, minutes
  rate   = mul slope, hours
  return rate

none:
  return 0.0
}

-- The longest run of readings below the limit.
func longest(temps: ptr, n: i64, limit: f32) -> i64 {
enter:
  go look(0, 0, 0)

look(i: i64, run: i64, most: i64):
  more = lt.s i, n
  when more go reading else done

reading:
  t     = load f32 [temps + i*4]
  cold  = lt t, limit
  run1  = add run, 1
  run2  = pick cold, run1, 0
  most2 = max.s most, run2
  i2    = add i, 1
  go look(i2, run2, most2)

done:
  return most
}

-- How many readings are below the limit: four at a time, then what is left one by one.
func frosts(temps: ptr, n: i64, limit: f32) -> i64 {
enter:
  limits = splat f32[4] limit
  fours  = and n, -4
  some   = gt.s fours, 0
  when some go look(0, 0) else rest(0, 0)

look(i: i64, counts: i32[4]):
  four    = load f32[4] [temps + i*4]
  below   = lt four, limits
  ones    = widen.u i32[4] below
  counts2 = add counts, ones
  i2      = add i, 4
  more    = lt.s i2, fours
  when more go look(i2, counts2) else sum

sum:
  all  = sum counts2
  wide = widen.u i64 all
  go rest(fours, wide)

rest(k: i64, count: i64):
  left = lt.s k, n
  when left go reading else done

reading:
  t      = load f32 [temps + k*4]
  cold   = lt t, limit
  one    = widen.u i64 cold
  count2 = add count, one
  k2     = add k, 1
  go rest(k2, count2)

done:
  return count
}

-- A cyclic redundancy code of 16 bits over a frame (polynomial 0x1021, bit by bit).
func seal(frame: ptr, n: i64) -> i16 {
enter:
  go look(0, -1)

look(i: i64, code: i16):
  more = lt.s i, n
  when more go byte else done

byte:
  v     = load i8 [frame + i]
  v16   = widen.u i16 v
  high  = shl v16, 8
  mixed = xor code, high
  go bit(0, mixed)

bit(k: i32, c: i16):
  out   = lt.s c, 0
  twice = shl c, 1
  cut   = xor twice, 4129
  c2    = pick out, cut, twice
  k2    = add k, 1
  again = lt.s k2, 8
  when again go bit(k2, c2) else next

next:
  i2 = add i, 1
  go look(i2, c2)

done:
  return code
}

-- How many posts answered in both of two rounds, and the first one that did not answer in either: a bit a post.
func answered(first: i64, second: i64) -> i64, i64 {
enter:
  both    = and first, second
  count   = popcount both
  any     = or first, second
  silent  = not any
  missing = ctz silent
  return count, missing
}
