// What instructions carry besides operands: addresses, frame objects, blocks of memory.
#pragma once

#include <cstdint>

#include "porphyry/base/ids.h"

namespace porphyry {

using KindPath = Id<struct KindPathTag>;  // what an access touches: a row of the module's kinds

// The address [pointer + index*scale + offset] and what is said of the access through it. Its operands are,
// in this order: the pointer, the index when `indexed`, the mask when `masked`, and for a masked load the
// value of its inactive lanes.
struct Address {
  int64_t scale = 1;
  int64_t offset = 0;
  uint32_t align = 1;  // promised alignment of the access, in bytes, a power of two; a kind's own by default
  KindPath kind;       // nothing: anything
  bool indexed = false;
  bool masked = false;
  bool is_volatile = false;
  bool early = false;         // moved over a branch: where kinds are broken its value is arbitrary instead
  bool guarded = false;        // outside of the object the access traps instead of faulting
  bool as_unwritten = false;  // `as const`: the bytes are never written while the object lives
  bool operator==(const Address&) const = default;
  unsigned operand_count() const { return 1u + (indexed ? 1u : 0u); }  // of the address alone
};

// A frame object made by `reserve`.
struct ReserveShape {
  uint64_t bytes = 0;
  uint32_t align = 1;
  bool operator==(const ReserveShape&) const = default;
};

// The two addresses of a `copy`; the first one's operands come first.
struct CopyShape {
  Address to, from;
};

}  // namespace porphyry
