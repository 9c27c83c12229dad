// Numbers in as many bytes as they need, seven bits each, the lowest first; all but the last byte have the
// top bit set. DWARF 5, section 7.6.
//
//   put_uleb(size, [&](uint8_t byte) { out.push_back(byte); });
#pragma once

#include <cstdint>

namespace porphyry {

// Calls `byte` with each.
template <class Byte>
void put_uleb(uint64_t v, Byte byte) {
  for (; v >= 0x80; v >>= 7) byte(static_cast<uint8_t>(v | 0x80));
  byte(static_cast<uint8_t>(v));
}

// The same with a sign, which the second bit of the last byte is.
template <class Byte>
void put_sleb(int64_t v, Byte byte) {
  for (;; v >>= 7) {
    bool last = (v >> 6) == 0 || (v >> 6) == -1;
    byte(static_cast<uint8_t>((static_cast<uint64_t>(v) & 0x7f) | (last ? 0 : 0x80)));
    if (last) return;
  }
}

}  // namespace porphyry
