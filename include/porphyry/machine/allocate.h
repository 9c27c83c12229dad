// Register allocation: a linear scan over live ranges with holes.
//
// After M. Poletto, V. Sarkar, "Linear Scan Register Allocation" (1999), with the lifetime holes of
// O. Traub, G. Holloway, M. Smith (1998). Copies are coalesced first where ranges do not meet. A value that
// finds no register goes to a frame slot as a whole: each use fetches it into a brief register, and the scan
// runs again; values that one constant instruction makes are made again instead.
// O(n log n) a round for n instructions and ranges; two or three rounds where there is pressure.
#pragma once

#include "porphyry/base/diagnostics.h"
#include "porphyry/machine/code.h"

namespace porphyry::machine {

struct Allocation {
  Code code;                         // operands name physical registers
  std::vector<Register> virtual_of;  // by operand of `code`: the virtual register it was; for the checker
  std::vector<std::pair<Register, Register>> of_address;  // by row of addresses: base and index as they were
  unsigned rounds = 0;
};

Allocation allocate(Code before, const Target& target);

// Checks an allocation by a data-flow analysis of its own: whatever way a run takes, each operand finds in
// its place the value that the code before allocation meant. Returns what is wrong.
Diagnostics check_allocation(const Code& before, const Allocation& after, const Target& target);

}  // namespace porphyry::machine
