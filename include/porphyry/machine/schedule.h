// List scheduling inside blocks, by the book's latencies and units, on virtual registers.
//
// Instructions whose results are waited for longest go first, as early as what they need is there (P.
// Gibbons, S. Muchnick, "Efficient Instruction Scheduling for a Pipelined Architecture", 1986), but never far
// ahead of where they stood. What sets flags and what reads them stay together; memory that is written keeps
// its order with all other accesses; volatile accesses and what may trap keep theirs; calls and the jumps at
// a block's end stay where they are.
//
// An order is taken only where it is estimated to be shorter, by more than a processor with a window hides,
// and costs nothing elsewhere. Registers that will be coalesced count as one, so that a counter's new value
// is not made while the old one is still wanted, which would cost a copy; and no more registers hold values
// at once than there are, or did before.
#pragma once

#include <optional>

#include "porphyry/machine/code.h"

namespace porphyry::machine {

// The estimate: an instruction begins as soon as its operands are there and the units that it needs are free,
// by the book, as many in a cycle as the book says, and not before all have begun that stand a window or more
// in front of it. So a processor that works in order waits where one with a large window goes on, and for the
// latter few orders are better than others. What is behind a call begins when that has returned; copies from
// one virtual register to another take no time. O(instructions * window).
uint32_t estimated_cycles(const Code& code, const CodeBlock& block, const Target& target);

// `function` is what the code was selected from. O(n log n) for n instructions, and the lists of
// what depends on what.
// The lines in the order that they had, where any moved.
std::optional<CodeRows<CodeLine>> schedule(Code& code, const Function& function, const Target& target,
                                           std::pmr::memory_resource* work);

}  // namespace porphyry::machine
