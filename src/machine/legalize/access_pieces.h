// Accesses in pieces that the machine has instructions for.
#pragma once

#include <algorithm>
#include <vector>

#include "porphyry/ir/address.h"

namespace porphyry::machine {

struct AccessPiece {
  unsigned bytes;  // 8, 4, 2 or 1
  int64_t at;
};

// So many bytes in the largest pieces that fit, in order; each lies at a multiple of its size.
inline std::vector<AccessPiece> pieces_of(uint64_t bytes, unsigned largest = 8) {
  std::vector<AccessPiece> out;
  for (uint64_t at = 0; at < bytes;) {
    unsigned size = largest;
    while (size > bytes - at) size /= 2;
    out.push_back({size, static_cast<int64_t>(at)});
    at += size;
  }
  return out;
}

// The address so many bytes further on, with the alignment that is left of it.
inline Address moved(Address a, int64_t by) {
  if (by == 0) return a;
  a.offset += by;
  a.align = std::min<uint32_t>(a.align, static_cast<uint32_t>(by & -by));
  return a;
}

}  // namespace porphyry::machine
