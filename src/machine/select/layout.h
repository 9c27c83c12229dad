// The order of a function's blocks in its code, and their loops.
#pragma once

#include "cover.h"
#include "porphyry/machine/code.h"

namespace porphyry::machine {

struct BlockLayout {
  std::pmr::vector<Block> order;        // reachable ones
  FixedTable<Block, uint32_t> numbers;  // places in that order
  FixedTable<Block, uint32_t> loops;    // by header: its row of Code::loops
};

// The function's own order is the author's; only what is unlikely moves out of the way, behind the rest,
// innermost loops become chains along the edges that are taken most (K. Pettis, R. Hansen, "Profile Guided
// Code Positioning", 1990), and loops are turned. Where bytes count, stretches then follow one another where
// that saves a jump. O(blocks), and O(e log e) for the edges of an innermost
// loop.
BlockLayout lay_out_blocks(const Function& f, const FlowOf& flow, bool counts_bytes,
                           std::pmr::memory_resource* work);

// The rows of Code::loops, outer ones first; notes in `layout` which are whose.
void number_loops(const FlowOf& flow, BlockLayout& layout, CodeRows<CodeLoop>& out);

}  // namespace porphyry::machine
