// List scheduling inside blocks, by the book's latencies, on virtual registers.
//
// Instructions whose results are waited for longest go first, as early as what they need is there (P.
// Gibbons, S. Muchnick, "Efficient Instruction Scheduling for a Pipelined Architecture", 1986), but never far
// ahead of where they stood, so that no more values are alive at once than registers can hold. What sets
// flags and what reads them stay together; memory that is written keeps its order with all other accesses;
// volatile accesses and what may trap keep theirs; calls and the jumps at a block's end stay where they are.
#pragma once

#include "porphyry/machine/code.h"

namespace porphyry::machine {

// `function` is what the code was selected from. O(n) but for the lists of what depends on what.
void schedule(Code& code, const Function& function, const Target& target, std::pmr::memory_resource* work);

}  // namespace porphyry::machine
