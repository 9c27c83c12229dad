// Copy coalescing: copies whose two registers never hold different wanted values become one register.
//
// Aggressive coalescing on live ranges (G. Chaitin, "Register Allocation and Spilling via Graph Coloring",
// 1982, section 3): copies are tried from the most to the least frequent one, and the ranges of two registers
// that do not meet are merged. Invariant: registers of one class of the partition have disjoint ranges.
// O(n log n) in copies and segments.
#pragma once

#include "porphyry/machine/live_ranges.h"

namespace porphyry::machine {

// Which registers are one: a union-find forest over virtual registers, numbered from 0.
class Coalesced {
 public:
  Coalesced(size_t count, std::pmr::memory_resource* work);
  uint32_t root(uint32_t v) const {
    while (parent_[v] != v) v = parent_[v];
    return v;
  }
  // A physical register stands for itself.
  Register root_register(Register r) const {
    return is_virtual(r) ? first_virtual + root(r - first_virtual) : r;
  }
  size_t size() const { return parent_.size(); }
  uint32_t find(uint32_t v);  // the same as root; shortens the way there
  void join(uint32_t root, uint32_t into) { parent_[root] = into; }
  // Once nothing is joined any more: from each the root is one step away. O(count), nearly.
  void shorten() {
    for (uint32_t v = 0; v < parent_.size(); ++v) find(v);
  }

 private:
  std::pmr::vector<uint32_t> parent_;
};

// Merges ranges and weights of what becomes one into those of its root.
Coalesced coalesce(const Code& f, LiveRanges& ranges, std::pmr::memory_resource* work);

}  // namespace porphyry::machine
