// Natural loops: a header that dominates the sources of edges back to it, and all blocks between.
#pragma once

#include <vector>

#include "porphyry/analyze/dominators.h"

namespace porphyry {

class Loops {
 public:
  Loops(const Function& function, const Dominators& dominators,
        std::pmr::memory_resource* memory = std::pmr::get_default_resource());

  // How many loops a block is in; 0 outside of all.
  unsigned depth(Block b) const { return depth_[b]; }
  // The header of the innermost loop around a block.
  Block header(Block b) const { return header_[b]; }
  // The header of the loop around the one with this header; nothing for an outermost one.
  Block outer(Block header) const { return outer_[header]; }
  bool is_header(Block b) const { return header_[b] == b; }

 private:
  FixedTable<Block, uint32_t> depth_;
  FixedTable<Block, Block> header_, outer_;
};

}  // namespace porphyry
