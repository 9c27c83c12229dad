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
  explicit Predecessors(const Code& f);
  std::span<const uint32_t> of(uint32_t block) const {
    return {sources_.data() + first_[block], first_[block + 1] - first_[block]};
  }

 private:
  std::pmr::vector<uint32_t> first_, sources_;  // by block: where its sources begin; those of all blocks
};

struct LiveRanges {
  explicit LiveRanges(const Code& f)
      : virtuals(f.memory()), blocked(first_virtual, f.memory()), weights(f.memory()), predecessors(f) {}
  std::pmr::vector<Segments> virtuals;  // by register number minus first_virtual
  std::pmr::vector<Segments> blocked;   // by physical register: where the code itself uses it; not of flags
  std::pmr::vector<float> weights;      // uses and writes by how often they run
  Predecessors predecessors;
};

// Near-linear in the code and the segments that come out, which lie in the code's memory.
LiveRanges live_ranges(const Code& f, const Target& target);

bool covers(const Segments& s, uint32_t position);
bool meet(const Segments& a, const Segments& b);
// O(log first + second + what of the first stands beside or behind the second), by where they begin.
Segments merged(Segments a, Segments b);

}  // namespace porphyry::machine
