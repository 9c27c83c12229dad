// Which blocks every path to a block must pass.
//
// K. Cooper, T. Harvey, K. Kennedy, "A Simple, Fast Dominance Algorithm" (2001): immediate dominators by
// meeting in reverse postorder until nothing changes; near-linear on the graphs of programs.
//
// An analysis tells of the function as it was when it was made: it is wrong after blocks or edges changed,
// and handles that are newer must not be asked for. The same holds for Loops and Frequencies.
#pragma once

#include <vector>

#include "porphyry/ir/order.h"

namespace porphyry {

class Dominators {
 public:
  explicit Dominators(const Function& function,
                      std::pmr::memory_resource* memory = std::pmr::get_default_resource());

  static constexpr const char* name = "dominators";
  // Of the same blocks, however many handles there are.
  bool operator==(const Dominators& other) const {
    return order_ == other.order_ && immediate_ == other.immediate_;
  }
  // Whether the block was there when this was made.
  bool knows(Block b) const { return number_.holds(b); }
  bool reachable(Block b) const { return number_[b] != 0; }
  // Blocks that can be reached, each after its dominators.
  const Blocks& order() const { return order_; }
  Block immediate(Block b) const;          // nothing for the entry
  bool dominates(Block a, Block b) const;  // also when equal; O(1)
  // Whether `v` is there when `user` runs. Constants and parameters always are.
  bool available(const Function& function, Value v, Instruction user) const;

  // The one edge into a block, but for those from blocks that it dominates: what a branch there says of
  // values that are defined above holds in all that the block dominates, until the branch is passed again.
  // Nothing where there are none or several. O(edges into the block).
  Edge only_way_in(const Function& function, Block b) const;

  // Blocks where paths that pass `b` first meet paths that do not: R. Cytron et al. (1991).
  std::vector<std::vector<Block>> frontiers(const Function& function) const;

 private:
  using Numbers = std::pmr::vector<uint32_t>;
  Blocks order_;                        // reverse postorder
  FixedTable<Block, uint32_t> number_;  // place in order_ plus one; 0: not reachable
  Numbers immediate_;                   // by place
  Numbers enter_, leave_;  // by place: what a block dominates are the numbers from enter_ to leave_
};

}  // namespace porphyry
