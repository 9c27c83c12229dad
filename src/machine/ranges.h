// Live ranges: where each register's value is wanted, as ordered segments of positions.
//
// Instruction k reads at position 2k and writes at 2k + 1. A segment [from, to) covers the positions at which
// the register may not be given away.
#pragma once

#include <memory>
#include <memory_resource>

#include "porphyry/machine/code.h"

namespace porphyry::machine {

struct Segment {
  uint32_t from, to;
};
using Segments = std::pmr::vector<Segment>;

struct LiveRanges {
  // All segments lie in one arena, which goes with the ranges: most registers have one or two.
  std::unique_ptr<std::pmr::monotonic_buffer_resource> arena =
      std::make_unique<std::pmr::monotonic_buffer_resource>(8192);
  std::pmr::vector<Segments> virtuals{arena.get()};  // by register number minus first_virtual
  std::pmr::vector<Segments> blocked{arena.get()};   // by physical register: where the code itself uses it
  std::vector<float> weights;                        // uses and writes by how often they run
};

// Near-linear in the code and the segments that come out.
LiveRanges live_ranges(const Code& f, const Target& target);

bool meet(const Segments& a, const Segments& b);
// O(log first + second + what of the first stands beside or behind the second), by where they begin.
Segments merged(Segments a, Segments b);

}  // namespace porphyry::machine
