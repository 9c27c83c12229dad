// Numbers in memory by a target's order of bytes.
#pragma once

#include <bit>
#include <cstring>

#include "porphyry/ir/compute.h"
#include "porphyry/ir/module.h"

namespace porphyry::simulate {

inline Bits turned(Bits v, unsigned bytes) {
  Bits out = 0;
  for (unsigned k = 0; k < bytes; ++k) out = out << 8 | (v >> (8 * k) & 0xff);
  return out;
}

// Of up to 16 bytes.
inline Bits load_number(uint64_t address, unsigned bytes, ByteOrder order) {
  Bits v = 0;
  std::memcpy(&v, reinterpret_cast<const void*>(address), bytes);
  return order == ByteOrder::Little ? v : turned(v, bytes);
}
inline void store_number(uint64_t address, unsigned bytes, ByteOrder order, Bits v) {
  if (order == ByteOrder::Big) v = turned(v, bytes);
  std::memcpy(reinterpret_cast<void*>(address), &v, bytes);
}

}  // namespace porphyry::simulate
