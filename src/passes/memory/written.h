// What a load gets from the write that it sees, computed without memory.
#pragma once

#include "porphyry/analyze/memory_flow.h"
#include "porphyry/ir/pen.h"

namespace porphyry {

// The value that a load of `type` at `read` finds, after a store, or a fill with a constant, wrote all of its
// bytes: all that was stored, or the part of it. `write` must dominate the pen's place, where operations may
// be written. Nothing when it cannot be told, or needs more than a shift and a conversion.
Value value_written(Pen& pen, const Alias& alias, Instruction write, const MemoryAccess& read, Type type);

// Where a copy that wrote all bytes of `read` took them from: an address with its operands.
struct CopiedFrom {
  Address address;
  std::vector<Value> operands;
  MemoryAccess access;
};
std::optional<CopiedFrom> copied_from(const Function& f, const Alias& alias, Instruction copy,
                                      const MemoryAccess& read);

}  // namespace porphyry
