// Register allocation: a linear scan over live ranges with holes, which are split where registers are short.
//
// After M. Poletto, V. Sarkar, "Linear Scan Register Allocation" (1999), with the lifetime holes of O. Traub,
// G. Holloway, M. Smith (1998). Copies are coalesced first where ranges do not meet, else they are hints. A
// value that finds no register for all of its range is split by the loops and runs of uses in it, in the
// manner of K. Cooper, L. Simpson, "Live Range Splitting in a Graph Coloring Register Allocator" (1998), and
// the scan runs again; a constant is rematerialized rather than reloaded. A register that the caller wants
// back is used where it saves more than its own saving costs. O(n log n) for n instructions and ranges in the
// first round; later ones find the ranges of pieces only, and place all again. Rounds are one to eight,
// rarely fifteen, and grow with the logarithm of the depth of loops.
#pragma once

#include "porphyry/base/diagnostics.h"
#include "porphyry/base/scratch.h"
#include "porphyry/machine/code.h"

namespace porphyry::machine {

// Why a value was split. Values that were one register, since copies between them coalesced, have one each.
struct SplitReason {
  enum class Why : uint8_t {
    Crowded,    // all registers hold values whose use costs more
    Outbid,     // `by` costs more, and its register was wanted
    NoneLasts,  // calls, or fixed registers, take all that were worth having somewhere in its range
  };
  Value value;  // of the IR; nothing for helpers
  Instruction at;
  Value by;
  Why why;
  float cost;  // of its uses, by how often they run, for each position it takes
};

struct Allocation {
  explicit Allocation(Code c) : code(std::move(c)), virtual_of(code.memory()), of_address(code.memory()) {}
  Code code;                      // operands name physical registers
  CodeRows<Register> virtual_of;  // by operand of `code`: the virtual register it was; for the checker
  CodeRows<std::pair<Register, Register>> of_address;  // by row of addresses: base and index as they were
  // Rows of operands that constants made again write, and the virtual registers they write for.
  std::vector<std::pair<uint32_t, Register>> remade;
  unsigned rounds = 0;
  std::vector<SplitReason> split_reasons;  // in the order in which they came about
};

// The memory of one round and of the next, which carries over what did not change.
struct RoundMemory {
  Scratch &one, &other;
  void reset() const { one.reset(), other.reset(); }
};

// What comes out lies in the memory that the code lies in; what was taken of `work` is free afterwards. Only
// checkers and listings want what the operands were; where nothing is split, it takes time to remember it.
Allocation allocate(Code before, const Target& target, RoundMemory work, bool remembered);
Allocation allocate(Code before, const Target& target);

// Two orders of the same instructions: the second one's allocation, unless it has more copies, spills or
// reloads than that of the first. Takes the time of both.
Allocation allocate_either(Code plain, Code scheduled, const Target& target, RoundMemory work,
                           bool remembered);

// Checks an allocation by a data-flow analysis of its own: whatever way a run takes, each operand finds in
// its place the value that the code before allocation meant. Returns what is wrong.
Diagnostics check_allocation(const Code& before, const Allocation& after, const Target& target);

}  // namespace porphyry::machine
