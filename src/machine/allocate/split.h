// Rewrites code so that the registers a scan could not place are split into pieces (see split_registers.h).
#pragma once

#include "porphyry/machine/allocate.h"
#include "scan.h"
#include "split_registers.h"

namespace porphyry::machine {

// Gives where its lines went. O(n log n) in the code.
LineMoves split_ranges(Allocation& out, const Target& target, const Scan& scan, Pieces& pieces,
                       std::pmr::memory_resource* work);

// Within each block: a reload of what a register still holds becomes a copy, or nothing; a spill that is
// overwritten before a reload, or never reloaded, is removed. For allocated code. O(n).
void remove_superfluous_spills(Allocation& out, const Target& target, const Pieces& pieces,
                               std::pmr::memory_resource* work);

}  // namespace porphyry::machine
