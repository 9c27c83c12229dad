// Natural loops: a header that dominates the sources of edges back to it, and all blocks between.
// Near-linear in blocks and edges, however deep loops nest.
#pragma once

#include <vector>

#include "porphyry/analyze/dominators.h"

namespace porphyry {

class Facts;

class Loops {
 public:
  Loops(const Function& function, Facts& facts);
  Loops(const Function& function, const Dominators& dominators,
        std::pmr::memory_resource* memory = std::pmr::get_default_resource());

  static constexpr const char* name = "loops";
  bool operator==(const Loops& other) const {
    return depth_ == other.depth_ && header_ == other.header_ && outer_ == other.outer_;
  }
  // How many loops a block is in; 0 outside of all.
  unsigned depth(Block b) const { return depth_[b]; }
  // The header of the innermost loop around a block.
  Block header(Block b) const { return header_[b]; }
  // The header of the loop around the one with this header; nothing for an outermost one.
  Block outer(Block header) const { return outer_[header]; }
  bool is_header(Block b) const { return header_[b] == b; }
  // Whether the block was there when this was made.
  bool knows(Block b) const { return header_.holds(b); }
  // Whether a block is in the loop with this header, at any depth; a newer one is in none. O(1).
  bool contains(Block header, Block b) const {
    if (!knows(b)) return false;
    Block h = header_[b];
    return h.exists() && nest_[h].place - nest_[header].place < nest_[header].count;
  }

 private:
  void number(const Blocks& order);

  FixedTable<Block, uint32_t> depth_;
  FixedTable<Block, Block> header_, outer_;
  struct Nest {  // of a header: its place in preorder, and how many loops are in this one, itself included
    uint32_t place = 0, count = 0, taken = 0;
  };
  FixedTable<Block, Nest> nest_;
};

// Whether each way back leads to a block that dominates it, so that no loop is entered but at its header:
// `Loops` knows all there are. O(edges).
bool is_reducible(const Function& function, const Dominators& dominators);

}  // namespace porphyry
