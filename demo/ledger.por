-- The orchard's ledger: what is counted, sorted and looked up once the night is over. Beside frostwatch.por, whose
-- kernels go over readings, these call, recurse, branch on codes, divide, and walk tables.

module ledger
layout little

-- ---- recursion

-- The ways along a slope of `rows` and `columns` of trees, a step down or a step aside at a time.
func ways(rows: i32, columns: i32) -> i32 {
enter:
  top  = eq rows, 0
  side = eq columns, 0
  edge = or top, side
  when edge go one else both

both:
  up    = sub rows, 1
  left  = sub columns, 1
  above = call ways(up, columns)
  aside = call ways(rows, left)
  all   = add above, aside
  return all

one:
  return 1
}

-- ---- a buffer

-- A buffer of numbers: where they lie, how many there are, and how many there is room for.
extern func malloc(i64) -> ptr returns, allocates
extern func free(ptr) returns, frees

local func put(buffer: ptr, n: i32) {
enter:
  count = load i64 [buffer + 8]
  room  = load i64 [buffer + 16]
  full  = eq count, room
  when full go grow else store

grow:
  old   = load ptr [buffer]
  twice = shl room, 1
  more  = max.s twice, 4
  bytes = shl more, 2
  new   = call malloc(bytes)
  used  = shl count, 2
  copy [new], [old], used
  call free(old)
  store new, [buffer]
  store more, [buffer + 16]
  go store

store:
  data = load ptr [buffer]
  store n, [data + count*4]
  next = add count, 1
  store next, [buffer + 8]
  return
}

-- The crates of a week, put down one by one and then added up.
func crates(first: i32) -> i32 {
enter:
  buffer = reserve 24 align 8
  store null:ptr, [buffer]
  store 0:i64, [buffer + 8]
  store 0:i64, [buffer + 16]
  call put(buffer, first)
  call put(buffer, 12)
  call put(buffer, 7)
  call put(buffer, 31)
  call put(buffer, 18)
  call put(buffer, first)
  call put(buffer, 5)
  data  = load ptr [buffer]
  count = load i64 [buffer + 8]
  go look(0, 0)

look(i: i64, sum: i32):
  more = lt.s i, count
  when more go crate else done

crate:
  n    = load i32 [data + i*4]
  sum2 = add sum, n
  i2   = add i, 1
  go look(i2, sum2)

done:
  call free(data)
  return sum
}

-- ---- a nest

-- How much of the slope lies in shade: for each tree, the trees up to three before it in its row and above it
-- that are higher. `heights` has `rows` rows of `columns` bytes.
func shade(heights: ptr, rows: i64, columns: i64) -> i64 {
enter:
  go row(0, 0)

row(r: i64, sum: i64):
  more = lt.s r, rows
  when more go start else done

start:
  begin = mul r, columns
  go tree(0, sum)

tree(c: i64, sum2: i64):
  more2 = lt.s c, columns
  when more2 go here else next_row

here:
  at   = add begin, c
  mine = load i8 [heights + at]
  go before(1, sum2)

before(k: i64, sum3: i64):
  near = le.s k, 3
  when near go inside else next_tree

inside:
  in_row = ge.s c, k
  when in_row go beside else up(sum3)

beside:
  place  = sub at, k
  other  = load i8 [heights + place]
  higher = gt.u other, mine
  one    = widen.u i64 higher
  sum4   = add sum3, one
  go up(sum4)

up(sum5: i64):
  in_column = ge.s r, k
  when in_column go above else next(sum5)

above:
  back    = mul k, columns
  place2  = sub at, back
  other2  = load i8 [heights + place2]
  higher2 = gt.u other2, mine
  one2    = widen.u i64 higher2
  sum6    = add sum5, one2
  go next(sum6)

next(sum7: i64):
  k2 = add k, 1
  go before(k2, sum7)

next_tree:
  c2 = add c, 1
  go tree(c2, sum3)

next_row:
  r2 = add r, 1
  go row(r2, sum2)

done:
  return sum
}

-- ---- a dense choose

-- What a log of one-byte entries does to a tank: fills, drains, halves, marks, and so on.
func replay(log: ptr, n: i64) -> i32 {
enter:
  go look(0, 100, 0)

look(i: i64, level: i32, mark: i32):
  more = lt.s i, n
  when more go entry else done

entry:
  byte = load i8 [log + i]
  code = and byte, 15
  i2   = add i, 1
  choose code {
    0: look(i2, level, mark),
    1: fill,
    2: drain,
    3: halve,
    4: double,
    5: set,
    6: back,
    7: swap,
    8: flip,
    9: rest,
    10: frost,
    11: thaw,
    else: look(i2, level, mark)
  }

fill:
  l1 = add level, 7
  go look(i2, l1, mark)

drain:
  l2 = sub level, 5
  go look(i2, l2, mark)

halve:
  l3 = shr.s level, 1
  go look(i2, l3, mark)

double:
  l4 = shl level, 1
  go look(i2, l4, mark)

set:
  go look(i2, level, level)

back:
  go look(i2, mark, mark)

swap:
  go look(i2, mark, level)

flip:
  l8 = xor level, 85
  go look(i2, l8, mark)

rest:
  l9 = and level, 1023
  go look(i2, l9, mark)

frost:
  l10 = sub mark, level
  go look(i2, l10, mark)

thaw:
  l11 = add level, mark
  go look(i2, l11, mark)

done:
  sum = add level, mark
  return sum
}

-- ---- divisions

-- Seconds as days, hours, minutes and seconds, two digits each.
func clock(seconds: i64) -> i64 {
enter:
  minutes = div.s seconds, 60
  s       = rem.s seconds, 60
  hours   = div.s minutes, 60
  m       = rem.s minutes, 60
  days    = div.s hours, 24
  h       = rem.s hours, 24
  a       = mul days, 100
  b       = add a, h
  c       = mul b, 100
  d       = add c, m
  e       = mul d, 100
  f       = add e, s
  return f
}

-- ---- bits

-- Posts that differ between two nights, by the bits of their words: how many, and the highest of them all.
func posts(first: ptr, second: ptr, words: i64) -> i64 {
enter:
  go look(0, 0, 0)

look(i: i64, count: i64, all: i64):
  more = lt.s i, words
  when more go word else done

word:
  a    = load i64 [first + i*8]
  b    = load i64 [second + i*8]
  x    = xor a, b
  all2 = or all, x
  go bit(x, count)

bit(left: i64, n: i64):
  some = ne left, 0
  when some go take else next

take:
  less  = sub left, 1
  left2 = and left, less
  n2    = add n, 1
  go bit(left2, n2)

next:
  i2 = add i, 1
  go look(i2, n, all2)

done:
  zeros  = clz all
  digits = sub 64, zeros
  high   = shl count, 8
  out    = or high, digits
  return out
}

-- ---- strings

-- Words of a text and their letters, without regard to case: a number for each word, put together.
func words(text: ptr, n: i64) -> i32 {
enter:
  go look(0, 0, 0)

look(i: i64, hash: i32, inside: i32):
  more = lt.s i, n
  when more go char else done

char:
  c      = load i8 [text + i]
  lower  = or c, 32
  place  = sub lower, 97
  letter = lt.u place, 26
  i2     = add i, 1
  when letter go one else other

one:
  wide  = widen.u i32 lower
  mixed = xor inside, wide
  next  = mul mixed, 16777619
  go look(i2, hash, next)

other:
  ends = ne inside, 0
  when ends go word else look(i2, hash, 0)

word:
  turned = rotl hash, 5
  hash2  = add turned, inside
  go look(i2, hash2, 0)

done:
  last = add hash, inside
  return last
}

-- ---- sorting

-- Puts numbers in order where they lie, by insertion; gives how many places they moved.
func arrange(numbers: ptr, n: i64) -> i64 {
enter:
  go next(1, 0)

next(i: i64, moves: i64):
  more = lt.s i, n
  when more go pick_up else done

pick_up:
  v = load i32 [numbers + i*4]
  go down(i, moves)

down(k: i64, moves2: i64):
  inside = gt.s k, 0
  when inside go look else put

look:
  before = sub k, 1
  other  = load i32 [numbers + before*4]
  larger = gt.s other, v
  when larger go move else put

move:
  store other, [numbers + k*4]
  moves3 = add moves2, 1
  go down(before, moves3)

put:
  store v, [numbers + k*4]
  i2 = add i, 1
  go next(i2, moves2)

done:
  return moves
}

-- ---- tables

-- Where a number stands in a table that rises, or would stand: the first place whose entry is not below it.
func place(table: ptr, n: i64, wanted: i32) -> i64 {
enter:
  go look(0, n)

look(low: i64, high: i64):
  open = lt.s low, high
  when open go half else done

half:
  sum    = add low, high
  middle = shr.u sum, 1
  entry  = load i32 [table + middle*4]
  below  = lt.s entry, wanted
  next   = add middle, 1
  low2   = pick below, next, low
  high2  = pick below, high, middle
  go look(low2, high2)

done:
  return low
}
