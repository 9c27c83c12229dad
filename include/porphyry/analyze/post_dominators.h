// Post-dominators: which blocks every way from a block to an end of the function passes; and control
// dependence: which branches decide whether a block runs.
//
// Ends are blocks without ways out. Blocks that lead to no end (endless loops) are post-dominated by
// themselves alone.
#pragma once

#include <algorithm>

#include "porphyry/ir/order.h"

namespace porphyry {

class PostDominators {
 public:
  static constexpr const char* name = "post-dominators";

  // As dominators of the graph turned around, from one end behind all ends: K. Cooper, T. Harvey, K. Kennedy,
  // "A Simple, Fast Dominance Algorithm", 2001. Near-linear on the graphs of programs.
  explicit PostDominators(const Function& function);

  // The nearest block that every way from `b` to an end passes; nothing for ends, where ways part for good,
  // and where no way leads to an end.
  Block immediate(Block b) const { return immediate_[b]; }
  bool reaches_end(Block b) const { return number_[b] != 0; }
  // Also when equal. O(1).
  bool post_dominates(Block a, Block b) const;
  bool operator==(const PostDominators& other) const {
    return std::equal(immediate_.begin(), immediate_.end(), other.immediate_.begin(),
                      other.immediate_.end()) &&
           std::equal(number_.begin(), number_.end(), other.number_.begin(), other.number_.end());
  }

 private:
  Table<Block, Block> immediate_;
  Table<Block, uint32_t>
      number_;  // place in reverse postorder of the turned graph plus one; 0: no end is reached
  Table<Block, uint32_t> enter_, leave_;  // what a block post-dominates are the numbers from enter_ to leave_
};

// For each block the branches that decide whether it runs: edges from whose target it is always reached, and
// from whose source it is not. J. Ferrante, K. Ottenstein, J. Warren, "The Program Dependence Graph and Its
// Use in Optimization", 1987. O(edges * depth of the tree), which is the size of the result.
class ControlDependence {
 public:
  static constexpr const char* name = "control dependence";

  ControlDependence(const Function& function, const PostDominators& post_dominators);
  std::span<const Edge> of(Block b) const { return edges_[b.index]; }
  bool operator==(const ControlDependence&) const = default;

 private:
  std::vector<std::vector<Edge>> edges_;
};

}  // namespace porphyry
