// Live ranges: where each register's value is wanted, as ordered segments of positions.
//
// Instruction k reads at position 2k and writes at 2k + 1. A segment [from, to) covers the positions at which
// the register may not be given away.
#pragma once

#include "porphyry/machine/code.h"

namespace porphyry::machine {

struct Segment {
  uint32_t from, to;
};
using Segments = std::vector<Segment>;

struct LiveRanges {
  std::vector<Segments> virtuals;  // by register number minus first_virtual
  std::vector<Segments> blocked;   // by physical register: where the code itself uses or clobbers it
  std::vector<float> weights;      // uses and writes by how often they run
};

// Near-linear in the code and the segments that come out.
LiveRanges live_ranges(const Code& f, const Target& target);

bool meet(const Segments& a, const Segments& b);
// O(log first + second + what of the first stands beside or behind the second), by where they begin.
Segments merged(Segments a, Segments b);

}  // namespace porphyry::machine
