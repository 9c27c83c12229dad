module helpers

-- Routines that stand for operations too long to write out each time. Legalization adds those that a module needs, as
-- local functions. Their parameters and results fit the registers of every target, in words of 64 bits or of 32.
--
-- {index} is the integer as wide as a pointer. What is written for words of two sizes stands once: {word} and {double},
-- integers of one word and of two; {bits}, {top} and {half}, the bits of a word, one less, half as many; {low}, ones in a
-- word's lower half; {least}, the least number of two words; {n}, nothing or _32 behind a name.

-- copies n bytes, as if all were read before any is written
local func porphyry_copy(to: ptr, from: ptr, n: {index}) {
enter:
  ascends = le.u to, from
  when ascends go up(0) else down(n)

up(i: {index}):
  left = sub n, i
  wide = ge.u left, 8
  when wide go up_word else up_rest(i)

up_word:
  w = load i64 [from + i*1]
  store w, [to + i*1]
  i_next = add i, 8
  go up(i_next)

up_rest(j: {index}):
  more = lt.u j, n
  when more go up_byte else done

up_byte:
  b = load i8 [from + j*1]
  store b, [to + j*1]
  j_next = add j, 1
  go up_rest(j_next)

down(k: {index}):
  wide_k = ge.u k, 8
  when wide_k go down_word else down_rest(k)

down_word:
  k_next = sub k, 8
  wk = load i64 [from + k_next*1]
  store wk, [to + k_next*1]
  go down(k_next)

down_rest(l: {index}):
  more_l = ne l, 0
  when more_l go down_byte else done

down_byte:
  l_next = sub l, 1
  bl = load i8 [from + l_next*1]
  store bl, [to + l_next*1]
  go down_rest(l_next)

done:
  return
}

-- puts the low byte of v into n bytes
local func porphyry_fill(to: ptr, v: i64, n: {index}) {
enter:
  low = and v, 255
  word = mul low, 0x0101010101010101
  byte = narrow i8 low
  go words(0)

words(i: {index}):
  left = sub n, i
  wide = ge.u left, 8
  when wide go one_word else rest(i)

one_word:
  store word, [to + i*1]
  i_next = add i, 8
  go words(i_next)

rest(j: {index}):
  more = lt.u j, n
  when more go one_byte else done

one_byte:
  store byte, [to + j*1]
  j_next = add j, 1
  go rest(j_next)

done:
  return
}

-- (high, low) / by and the remainder, where high < by, so that the quotient fits a word: D. Knuth, The Art of Computer
-- Programming, volume 2, 4.3.1, algorithm D, with two digits of half a word; H. Warren, Hacker's Delight, 9-4
local func porphyry_divide_words{n}(high: {word}, low: {word}, by: {word}) -> {word}, {word} {
enter:
  s       = clz by
  v       = shl by, s
  v1      = shr.u v, {half}
  v0      = and v, {low}
  half    = shr.u low, 1
  back    = xor s, {top}
  come_in = shr.u half, back
  grown   = shl high, s
  u       = or grown, come_in
  rest    = shl low, s
  d1      = shr.u rest, {half}
  d0      = and rest, {low}
  q1      = call porphyry_digit{n}(u, d1, v1, v0)
  qv      = mul q1, v
  ud      = shl u, {half}
  udd     = or ud, d1
  u2      = sub udd, qv
  q0      = call porphyry_digit{n}(u2, d0, v1, v0)
  q0v     = mul q0, v
  u2d     = shl u2, {half}
  u2dd    = or u2d, d0
  r_grown = sub u2dd, q0v
  r       = shr.u r_grown, s
  q_up    = shl q1, {half}
  q       = add q_up, q0
  return q, r
}

-- one digit of the quotient: u / v1, taken down until the next digits agree, too
local func porphyry_digit{n}(u: {word}, d: {word}, v1: {word}, v0: {word}) -> {word} {
enter:
  q = div.u u, v1
  p = mul q, v1
  r = sub u, p
  go check(q, r)

check(qh: {word}, rh: {word}):
  much   = gt.u qh, {low}
  left   = mul qh, v0
  right0 = shl rh, {half}
  right  = or right0, d
  more   = gt.u left, right
  down   = or much, more
  when down go lower else out

lower:
  q_less = sub qh, 1
  r_more = add rh, v1
  stays  = le.u r_more, {low}
  when stays go check(q_less, r_more) else lowered

lowered:
  return q_less

out:
  return qh
}

-- quotient and remainder of two words; Hacker's Delight, 9-5
local func porphyry_divide{n}(a0: {word}, a1: {word}, b0: {word}, b1: {word}) -> {word}, {word} {
enter:
  b_small = eq b1, 0
  when b_small go one_word else two_words

one_word:
  a_small = lt.u a1, b0
  when a_small go short(0, a1) else long

long:
  q1 = div.u a1, b0
  r1 = rem.u a1, b0
  go short(q1, r1)

short(qh: {word}, rh: {word}):
  zero = eq b0, 0
  when zero go wrong else divide

divide:
  q0, r0 = call porphyry_divide_words{n}(rh, a0, b0)
  return q0, qh

wrong:
  trap

two_words:
  s     = clz b1
  b0h   = shr.u b0, 1
  back  = xor s, {top}
  bc    = shr.u b0h, back
  bg    = shl b1, s
  v     = or bg, bc
  a1h   = shr.u a1, 1
  a0h   = shr.u a0, 1
  a1l   = shl a1, {top}
  al    = or a0h, a1l
  t, tr = call porphyry_divide_words{n}(a1h, al, v)
  tq    = shr.u t, back
  above = ne tq, 0
  lower = sub tq, 1
  q     = pick above, lower, 0
  pl, pc = mul.wide.u q, b0
  ph0   = mul q, b1
  ph    = add ph0, pc
  rl    = sub a0, pl
  lent  = lt.u a0, pl
  lentw = widen.u {word} lent
  rh1   = sub a1, ph
  rhigh = sub rh1, lentw
  same  = eq rhigh, b1
  lowge = ge.u rl, b0
  high  = gt.u rhigh, b1
  fits  = pick same, lowge, high
  one   = widen.u {word} fits
  qq    = add q, one
  return qq, 0
}

local func porphyry_div_u{n}(a0: {word}, a1: {word}, b0: {word}, b1: {word}) -> {word}, {word} {
enter:
  q0, q1 = call porphyry_divide{n}(a0, a1, b0, b1)
  return q0, q1
}

local func porphyry_rem_u{n}(a0: {word}, a1: {word}, b0: {word}, b1: {word}) -> {word}, {word} {
enter:
  q0, q1 = call porphyry_divide{n}(a0, a1, b0, b1)
  pl, pc = mul.wide.u q0, b0
  x      = mul q0, b1
  y      = mul q1, b0
  xy     = add x, y
  ph     = add xy, pc
  r0     = sub a0, pl
  lent   = lt.u a0, pl
  lentw  = widen.u {word} lent
  r1     = sub a1, ph
  rr     = sub r1, lentw
  return r0, rr
}

-- the quotient toward zero; traps on zero and on least / -1
local func porphyry_div_s{n}(a0: {word}, a1: {word}, b0: {word}, b1: {word}) -> {word}, {word} {
enter:
  als    = widen.u {double} a0
  ahs    = widen.u {double} a1
  ah     = shl ahs, {bits}
  a      = or als, ah
  bls    = widen.u {double} b0
  bhs    = widen.u {double} b1
  bh     = shl bhs, {bits}
  b      = or bls, bh
  ones   = eq b, -1
  least  = eq a, {least}
  bad    = and ones, least
  when bad go wrong else divide

wrong:
  trap

divide:
  x      = abs a
  y      = abs b
  x0     = narrow {word} x
  xs     = shr.u x, {bits}
  x1     = narrow {word} xs
  y0     = narrow {word} y
  ys     = shr.u y, {bits}
  y1     = narrow {word} ys
  q0, q1 = call porphyry_divide{n}(x0, x1, y0, y1)
  signs  = xor a1, b1
  m      = shr.s signs, {top}
  m0     = xor q0, m
  m1     = xor q1, m
  r0     = sub m0, m
  lent   = lt.u m0, m
  lentw  = widen.u {word} lent
  r1     = sub m1, m
  rr     = sub r1, lentw
  return r0, rr
}

-- the remainder with the dividend's sign; traps on zero
local func porphyry_rem_s{n}(a0: {word}, a1: {word}, b0: {word}, b1: {word}) -> {word}, {word} {
enter:
  als    = widen.u {double} a0
  ahs    = widen.u {double} a1
  ah     = shl ahs, {bits}
  a      = or als, ah
  bls    = widen.u {double} b0
  bhs    = widen.u {double} b1
  bh     = shl bhs, {bits}
  b      = or bls, bh
  x      = abs a
  y      = abs b
  x0     = narrow {word} x
  xs     = shr.u x, {bits}
  x1     = narrow {word} xs
  y0     = narrow {word} y
  ys     = shr.u y, {bits}
  y1     = narrow {word} ys
  q0, q1 = call porphyry_rem_u{n}(x0, x1, y0, y1)
  m      = shr.s a1, {top}
  m0     = xor q0, m
  m1     = xor q1, m
  r0     = sub m0, m
  lent   = lt.u m0, m
  lentw  = widen.u {word} lent
  r1     = sub m1, m
  rr     = sub r1, lentw
  return r0, rr
}

-- the top word of a number that is not zero, what is below kept sticky in the last one, and how far it was shifted up
local func porphyry_top{n}(a0: {word}, a1: {word}) -> {word}, {word} {
enter:
  small = eq a1, 0
  when small go low else high

low:
  s  = clz a0
  t  = shl a0, s
  sl = add s, {bits}
  return t, sl

high:
  n    = clz a1
  back = xor n, {top}
  a0h  = shr.u a0, 1
  c    = shr.u a0h, back
  g    = shl a1, n
  u    = or g, c
  rest = shl a0, n
  some = ne rest, 0
  bit  = widen.u {word} some
  uu   = or u, bit
  return uu, n
}

local func porphyry_to_f64_u(a0: i64, a1: i64) -> f64 {
enter:
  any  = or a0, a1
  zero = eq any, 0
  when zero go none else some

none:
  return 0.0

some:
  t, s  = call porphyry_top(a0, a1)
  f     = to_float.u f64 t
  e     = sub 1087, s
  eb    = shl e, 52
  scale = bits f64 eb
  r     = mul f, scale
  return r
}

local func porphyry_to_f32_u(a0: i64, a1: i64) -> f32 {
enter:
  any  = or a0, a1
  zero = eq any, 0
  when zero go none else some

none:
  return 0.0

some:
  t, s  = call porphyry_top(a0, a1)
  f     = to_float.u f32 t
  e     = sub 191, s
  eb    = shl e, 23
  e32   = narrow i32 eb
  scale = bits f32 e32
  r     = mul f, scale
  return r
}

local func porphyry_to_f64_s{n}(a0: {word}, a1: {word}) -> f64 {
enter:
  m     = shr.s a1, {top}
  x0    = xor a0, m
  x1    = xor a1, m
  y0    = sub x0, m
  lent  = lt.u x0, m
  lentw = widen.u {word} lent
  y1    = sub x1, m
  yy    = sub y1, lentw
  f     = call porphyry_to_f64_u{n}(y0, yy)
  minus = lt.s a1, 0
  n     = neg f
  r     = pick minus, n, f
  return r
}

local func porphyry_to_f32_s{n}(a0: {word}, a1: {word}) -> f32 {
enter:
  m     = shr.s a1, {top}
  x0    = xor a0, m
  x1    = xor a1, m
  y0    = sub x0, m
  lent  = lt.u x0, m
  lentw = widen.u {word} lent
  y1    = sub x1, m
  yy    = sub y1, lentw
  f     = call porphyry_to_f32_u{n}(y0, yy)
  minus = lt.s a1, 0
  n     = neg f
  r     = pick minus, n, f
  return r
}

-- the same from two words of 32 bits: both products are exact, so their sum is rounded once
local func porphyry_to_f64_u_32(a0: i32, a1: i32) -> f64 {
enter:
  low    = to_float.u f64 a0
  high   = to_float.u f64 a1
  scaled = mul high, 0x1p32
  r      = add scaled, low
  return r
}

local func porphyry_to_f32_u_32(a0: i32, a1: i32) -> f32 {
enter:
  any  = or a0, a1
  zero = eq any, 0
  when zero go none else some

none:
  return 0.0

some:
  t, s  = call porphyry_top_32(a0, a1)
  f     = to_float.u f32 t
  e     = sub 159, s
  eb    = shl e, 23
  scale = bits f32 eb
  r     = mul f, scale
  return r
}

-- toward zero, saturating; NaN gives 0
local func porphyry_to_int_u(x: f64) -> i64, i64 {
enter:
  some = ge x, 1.0
  when some go not_small else none

none:
  return 0, 0

not_small:
  huge = ge x, 0x1p128
  when huge go most else fits

most:
  return -1, -1

fits:
  b     = bits i64 x
  e     = shr.u b, 52
  frac  = and b, 0xfffffffffffff
  m     = or frac, 0x10000000000000
  wide  = widen.u i128 m
  up    = sub e, 1075
  grows = ge.s up, 0
  when grows go left else right

left:
  upw = widen.u i128 up
  l   = shl wide, upw
  go out(l)

right:
  down  = sub 1075, e
  downw = widen.u i128 down
  r     = shr.u wide, downw
  go out(r)

out(v: i128):
  v0 = narrow i64 v
  vs = shr.u v, 64
  v1 = narrow i64 vs
  return v0, v1
}

local func porphyry_to_int_s(x: f64) -> i64, i64 {
enter:
  low = le x, -0x1p127
  when low go least else check

least:
  return 0, 0x8000000000000000

check:
  high = ge x, 0x1p127
  when high go most else fits

most:
  return -1, 0x7fffffffffffffff

fits:
  y      = abs x
  u0, u1 = call porphyry_to_int_u(y)
  b      = bits i64 x
  m      = shr.s b, 63
  x0     = xor u0, m
  x1     = xor u1, m
  y0     = sub x0, m
  lent   = lt.u x0, m
  lentw  = widen.u i64 lent
  y1     = sub x1, m
  yy     = sub y1, lentw
  return y0, yy
}

-- to two words of 32 bits: the upper one first, then what is left of the float, exactly; too much saturates both
local func porphyry_to_int_u_32(x: f64) -> i32, i32 {
enter:
  scaled = mul x, 0x1p-32
  high   = to_int.u i32 scaled
  back   = to_float.u f64 high
  whole  = mul back, 0x1p32
  rest   = sub x, whole
  low    = to_int.u i32 rest
  return low, high
}

local func porphyry_to_int_s_32(x: f64) -> i32, i32 {
enter:
  low = le x, -0x1p63
  when low go least else check

least:
  return 0, 0x80000000

check:
  high = ge x, 0x1p63
  when high go most else fits

most:
  return -1, 0x7fffffff

fits:
  y      = abs x
  u0, u1 = call porphyry_to_int_u_32(y)
  minus  = lt x, 0.0
  m      = pick minus, -1:i32, 0
  x0     = xor u0, m
  x1     = xor u1, m
  y0     = sub x0, m
  lent   = lt.u x0, m
  lentw  = widen.u i32 lent
  y1     = sub x1, m
  yy     = sub y1, lentw
  return y0, yy
}

-- the exact remainder, with the dividend's sign: long division of the mantissas, a bit a turn
local func porphyry_rem_f64(x: f64, y: f64) -> f64 {
enter:
  bx   = bits i64 x
  by   = bits i64 y
  sign = and bx, 0x8000000000000000
  ax   = and bx, 0x7fffffffffffffff
  ay   = and by, 0x7fffffffffffffff
  xbad = ge.u ax, 0x7ff0000000000000
  ybad = gt.u ay, 0x7ff0000000000000
  yzero = eq ay, 0
  bad0 = or xbad, ybad
  bad  = or bad0, yzero
  when bad go nothing else number

nothing:
  p = mul x, y
  r = div p, p
  return r

number:
  less = lt.u ax, ay
  when less go itself else divide

itself:
  return x

divide:
  mx, ex = call porphyry_parts(ax)
  my, ey = call porphyry_parts(ay)
  go turn(mx, ex)

turn(m: i64, e: i64):
  d     = sub m, my
  fits  = ge.s d, 0
  left  = pick fits, d, m
  last  = le.s e, ey
  when last go out else next

next:
  twice = shl left, 1
  e1    = sub e, 1
  go turn(twice, e1)

out:
  nought = eq left, 0
  when nought go zero else some

zero:
  z = bits f64 sign
  return z

some:
  room0  = sub ey, 1
  down0  = neg room0
  down   = max.s down0, 0
  room   = max.s room0, 0
  unit   = add ey, down
  l      = shr.u left, down
  lead   = clz l
  up0    = sub lead, 11
  up     = min.s up0, room
  ml     = shl l, up
  el     = sub unit, up
  hidden = shr.u ml, 52
  none   = sub 1, hidden
  eb0    = sub el, none
  eb     = shl eb0, 52
  frac   = and ml, 0xfffffffffffff
  body   = or frac, eb
  all    = or body, sign
  f      = bits f64 all
  return f
}

-- mantissa with its leading one in bit 52, and the exponent that belongs to it (1 for the least normal number)
local func porphyry_parts(a: i64) -> i64, i64 {
enter:
  e    = shr.u a, 52
  frac = and a, 0xfffffffffffff
  sub_ = eq e, 0
  when sub_ go small else normal

small:
  lead = clz frac
  up   = sub lead, 11
  m    = shl frac, up
  ee   = sub 1, up
  return m, ee

normal:
  mm = or frac, 0x10000000000000
  return mm, e
}

local func porphyry_rem_f32(x: f32, y: f32) -> f32 {
enter:
  xw = widen f64 x
  yw = widen f64 y
  r  = call porphyry_rem_f64(xw, yw)
  n  = narrow f32 r
  return n
}

-- the product is exact in f64; the sum is rounded to odd, so that rounding it again is right: S. Boldo, G. Melquiond,
-- Emulation of a FMA and correctly rounded sums (2008)
local func porphyry_fma_f32(a: f32, b: f32, c: f32) -> f32 {
enter:
  aw   = widen f64 a
  bw   = widen f64 b
  cw   = widen f64 c
  p    = mul aw, bw
  s    = add p, cw
  sb   = bits i64 s
  mag  = and sb, 0x7fffffffffffffff
  none = eq mag, 0
  wild = ge.u mag, 0x7ff0000000000000
  done = or none, wild
  when done go as_is else exact

as_is:
  r = narrow f32 s
  return r

-- the error of the sum, exactly: D. Knuth's two-sum
exact:
  pp   = sub s, cw
  cc   = sub s, pp
  dp   = sub p, pp
  dc   = sub cw, cc
  err  = add dp, dc
  lost = ne err, 0.0
  even0 = and sb, 1
  even = eq even0, 0
  fix  = and lost, even
  when fix go odd else as_is_2

as_is_2:
  r2 = narrow f32 s
  return r2

-- one unit toward the true sum: away from zero when the error has the sum's sign
odd:
  eb   = bits i64 err
  xs   = xor eb, sb
  same = ge.s xs, 0
  step = pick same, 1:i64, -1
  ob   = add sb, step
  o    = bits f64 ob
  r3   = narrow f32 o
  return r3
}

-- product and sum in 126 bits with a sticky last one, rounded once
local func porphyry_fma_f64(a: f64, b: f64, c: f64) -> f64 {
enter:
  ba   = bits i64 a
  bb   = bits i64 b
  bc   = bits i64 c
  aa   = and ba, 0x7fffffffffffffff
  ab   = and bb, 0x7fffffffffffffff
  ac   = and bc, 0x7fffffffffffffff
  wa   = ge.u aa, 0x7ff0000000000000
  wb   = ge.u ab, 0x7ff0000000000000
  wc   = ge.u ac, 0x7ff0000000000000
  za   = eq aa, 0
  zb   = eq ab, 0
  w1   = or wa, wb
  w3   = or w1, za
  w4   = or w3, zb
  when w4 go plain else finite

plain:
  p1 = mul a, b
  s1 = add p1, c
  return s1

finite:
  when wc go wild else both_finite

-- what the product does not change
wild:
  cc = add c, c
  return cc

both_finite:
  zc = eq ac, 0
  when zc go product else both

product:
  p2 = mul a, b
  return p2

both:
  ma, ea = call porphyry_parts(aa)
  mb, eb = call porphyry_parts(ab)
  mc, ec = call porphyry_parts(ac)
  maw  = widen.u i128 ma
  mbw  = widen.u i128 mb
  mcw  = widen.u i128 mc
  pw   = mul maw, mbw
  -- both with their leading one in bit 125; a weight is 2^(its exponent)
  np   = clz pw
  up   = sub np, 2
  pm   = shl pw, up
  upn  = narrow i64 up
  e0   = add ea, eb
  e1   = sub e0, 2150
  pe   = sub e1, upn
  cm   = shl mcw, 73
  ce   = sub ec, 1148
  sx   = xor ba, bb
  d    = sub pe, ce
  p_up = ge.s d, 0
  dn   = sub ce, pe
  dist = pick p_up, d, dn
  big  = pick p_up, pm, cm
  less = pick p_up, cm, pm
  ebig = pick p_up, pe, ce
  far  = gt.s dist, 126
  distf = pick far, 126, dist
  dw   = widen.u i128 distf
  moved = shr.u less, dw
  again = shl moved, dw
  lost = ne again, less
  sticky = widen.u i128 lost
  small = or moved, sticky
  sbig = pick p_up, sx, bc
  opp  = xor sx, bc
  minus = lt.s opp, 0
  sum  = add big, small
  diff = sub big, small
  m0   = pick minus, diff, sum
  -- a difference below zero (equal exponents) turns the sign round
  below = lt.s m0, 0
  m0n  = neg m0
  mag  = pick below, m0n, m0
  flip = pick below, -1:i64, 0
  sgn0 = xor sbig, flip
  sgn  = and sgn0, 0x8000000000000000
  none = eq mag, 0
  when none go cancelled else round

cancelled:
  return 0.0

-- the leading one to bit 126
round:
  lead = clz mag
  upm  = sub lead, 1
  m    = shl mag, upm
  upmn = narrow i64 upm
  em   = sub ebig, upmn
  e    = add em, 126
  over = gt.s e, 1023
  when over go infinite else in_range

infinite:
  ib = or sgn, 0x7ff0000000000000
  i  = bits f64 ib
  return i

in_range:
  normal = ge.s e, -1022
  lack  = sub -1022, e
  more  = pick normal, 0, lack
  cut   = add 74, more
  gone  = gt.s cut, 127
  when gone go tiny else fit

tiny:
  t = bits f64 sgn
  return t

fit:
  cutw  = widen.u i128 cut
  q     = shr.u m, cutw
  qb    = shl q, cutw
  rem_  = xor m, qb
  hs    = sub cutw, 1
  half  = shl 1:i128, hs
  above = gt.u rem_, half
  tie   = eq rem_, half
  qn    = narrow i64 q
  odd0  = and qn, 1
  odd   = ne odd0, 0
  tieup = and tie, odd
  up1   = or above, tieup
  inc   = widen.u i64 up1
  eb0   = add e, 1022
  ebb   = pick normal, eb0, 0
  ebits = shl ebb, 52
  r0    = add ebits, qn
  r1    = add r0, inc
  r2    = or r1, sgn
  r     = bits f64 r2
  return r
}
