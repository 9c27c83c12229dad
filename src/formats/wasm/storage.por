module wasm_storage

-- Memory for instances from the C library. In front of each piece, 16 bytes say how much room it has.

extern func calloc(i64, i64) -> ptr
extern func free(ptr)

local func "storage.claim"(bytes: i64, capacity: i64) -> ptr {
enter:
  twice = shl bytes, 1
  less = min.u twice, capacity
  room = max.u bytes, less
  all = add room, 16
  piece = call calloc(all, 1)
  none = eq piece, null
  when none go refused else done

done:
  store room, [piece]
  content = at [piece + 16]
  return content

refused:
  return null
}

local func "storage.extend"(content: ptr, bytes: i64) -> bool {
enter:
  none = eq content, null
  when none go refused else look

look:
  room = load i64 [content - 16]
  fits = ge.u room, bytes
  return fits

refused:
  return false
}

local func "storage.release"(content: ptr) {
enter:
  none = eq content, null
  when none go done else give

give:
  piece = at [content - 16]
  call free(piece)
  go done

done:
  return
}
