module wasm_runtime

-- What programs from the byte code call instead of writing it out each time. A record's address leads to where its
-- bytes or elements lie, then to how many there are, then to how many there may be.

extern func "storage.claim"(i64, i64) -> ptr
extern func "storage.extend"(ptr, i64) -> bool
extern func "storage.release"(ptr)

-- makes what a record leads to larger, in place or elsewhere; false when the host has no room for it
local func "storage.grow"(record: ptr, bytes: i64, more: i64, most: i64) -> bool {
enter:
  wanted = add bytes, more
  at = load ptr [record]
  in_place = call "storage.extend"(at, wanted)
  when in_place go done else elsewhere

elsewhere:
  twice = shl bytes, 1
  ample = max.u wanted, twice
  capacity = min.u ample, most
  fresh = call "storage.claim"(wanted, capacity)
  none = eq fresh, null
  when none go refused else move

move:
  copy [fresh], [at], bytes
  call "storage.release"(at)
  store fresh, [record]
  go done

done:
  return true

refused:
  return false
}

local func "memory.grow"(record: ptr, pages: i32) -> i32 {
enter:
  bytes = load i64 [record + 8]
  most = load i64 [record + 16]
  now = shr.u bytes, 16
  more = widen.u i64 pages
  wanted = add now, more
  over = gt.u wanted, most
  when over go refused else try

try:
  more_bytes = shl more, 16
  most_bytes = shl most, 16
  good = call "storage.grow"(record, bytes, more_bytes, most_bytes)
  when good go done else refused

done:
  new_bytes = add bytes, more_bytes
  store new_bytes, [record + 8]
  before = narrow i32 now
  return before

refused:
  return -1
}

-- puts a reference into `count` elements
local func "table.put"(elements: ptr, from: i64, count: i64, value: ptr) {
enter:
  last = add from, count
  go next(from)

next(i: i64):
  more = lt.u i, last
  when more go one else done

one:
  store value, [elements + i*8]
  i2 = add i, 1
  go next(i2)

done:
  return
}

local func "table.grow"(record: ptr, more_elements: i32, value: ptr) -> i32 {
enter:
  now = load i64 [record + 8]
  most = load i64 [record + 16]
  more = widen.u i64 more_elements
  wanted = add now, more
  over = gt.u wanted, most
  when over go refused else try

try:
  bytes = shl now, 3
  more_bytes = shl more, 3
  most_bytes = shl most, 3
  good = call "storage.grow"(record, bytes, more_bytes, most_bytes)
  when good go done else refused

done:
  store wanted, [record + 8]
  elements = load ptr [record]
  call "table.put"(elements, now, more, value)
  before = narrow i32 now
  return before

refused:
  return -1
}

-- Elements of segments as numbers: the place of something in the instance, times four, and what to do with it.
-- 0: null; 1: its address; 2: the reference that is there; 3: the reference that the address there leads to
local func "element.value"(instance: ptr, element: i64) -> ptr {
enter:
  place = shr.u element, 2
  way = and element, 3
  choose way {
    1: address,
    2: direct,
    3: indirect,
    else: none
  }

address:
  record = at [instance + place*1]
  return record

direct:
  here = load ptr [instance + place*1]
  return here

indirect:
  cell = load ptr [instance + place*1]
  there = load ptr [cell]
  return there

none:
  return null
}

local func "table.init"(instance: ptr, elements: ptr, to: i64, segment: ptr, from: i64, count: i64) {
enter:
  go next(0)

next(i: i64):
  more = lt.u i, count
  when more go one else done

one:
  source = add from, i
  element = load i64 [segment + source*8]
  value = call "element.value"(instance, element)
  target = add to, i
  store value, [elements + target*8]
  i2 = add i, 1
  go next(i2)

done:
  return
}

-- fills records of functions of this instance; a row is code and type
local func "functions.init"(instance: ptr, records: ptr, rows: ptr, count: i64) {
enter:
  go next(0)

next(i: i64):
  more = lt.u i, count
  when more go one else done

one:
  code = load ptr [rows + i*16]
  type = load i64 [rows + i*16 + 8]
  store code, [records + i*24]
  store instance, [records + i*24 + 8]
  store type, [records + i*24 + 16]
  i2 = add i, 1
  go next(i2)

done:
  return
}
