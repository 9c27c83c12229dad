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
using Segments = std::pmr::vector<Segment>;

// The blocks from which control comes to one.
class Predecessors {
 public:
  Predecessors(const Code& f, std::pmr::memory_resource* work);
  std::span<const uint32_t> of(uint32_t block) const {
    return {sources_.data() + first_[block], first_[block + 1] - first_[block]};
  }

 private:
  std::pmr::vector<uint32_t> first_, sources_;  // by block: where its sources begin; those of all blocks
};

struct LiveRanges {
  LiveRanges(const Code& f, std::pmr::memory_resource* work)
      : virtuals(work), blocked(first_virtual, work), weights(work), predecessors(f, work) {}
  std::pmr::vector<Segments> virtuals;  // by register number minus first_virtual
  std::pmr::vector<Segments> blocked;   // by physical register: where the code itself uses it; not of flags
  std::pmr::vector<float> weights;      // uses and writes by how often they run
  Predecessors predecessors;
};

// Near-linear in the code and the segments that come out. All of it lies in `work`.
LiveRanges live_ranges(const Code& f, const Target& target, std::pmr::memory_resource* work);

bool covers(const Segments& s, uint32_t position);
bool meet(const Segments& a, const Segments& b);
// O(log first + second + what of the first stands beside or behind the second), by where they begin.
Segments merged(Segments a, Segments b);

}  // namespace porphyry::machine
