// Natural loops: a header that dominates the sources of edges back to it, and all blocks between.
#pragma once

#include <vector>

#include "porphyry/analyze/dominators.h"

namespace porphyry {

class Loops {
 public:
  Loops(const Function& function, const Dominators& dominators);

  // How many loops a block is in; 0 outside of all.
  unsigned depth(Block b) const { return depth_.get(b); }
  // The header of the innermost loop around a block.
  Block header(Block b) const { return header_.get(b); }
  bool is_header(Block b) const { return header_.get(b) == b; }

 private:
  SideTable<Block, uint32_t> depth_;
  SideTable<Block, Block> header_;
};

}  // namespace porphyry
