#include "layout.h"

#include <algorithm>

namespace porphyry::machine {
namespace {

// A loop whose header may leave it, and whose last block only goes back to the header, takes two jumps a
// turn. With the header behind that block, which falls into it, one jump is enough; entering the loop takes
// one more. Only loops that lie in one piece, and one of several that share their last block.
void turn_loops(const Function& f, const Loops& loops, std::pmr::vector<Block>& order,
                std::pmr::memory_resource* work) {
  FixedTable<Block, uint32_t> place(f.block_limit(), work, 0);
  for (size_t k = 0; k < order.size(); ++k) place[order[k]] = static_cast<uint32_t>(k + 1);
  for (size_t last = order.size(); last-- > 1;) {
    Instruction back = f.terminator(order[last]);
    if (f.op(back) != Op::Go) continue;
    Block header = f.to(f.edge(back, 0));
    size_t first = place[header] - 1;
    if (first == 0 || first >= last || loops.header(header) != header) continue;
    if (f.op(f.terminator(header)) != Op::When || f.to(f.edge(f.terminator(header), 0)) == header) continue;
    bool leaves = false, in_one_piece = true;
    for (Edge e : f.edges(header)) leaves |= !loops.contains(header, f.to(e));
    if (last + 1 < order.size()) in_one_piece = !loops.contains(header, order[last + 1]);
    if (!leaves || !in_one_piece) continue;
    std::rotate(order.begin() + first, order.begin() + first + 1, order.begin() + last + 1);
    for (size_t k = first; k <= last; ++k) place[order[k]] = static_cast<uint32_t>(k + 1);
  }
}

}  // namespace

BlockLayout lay_out_blocks(const Function& f, const FlowOf& flow, std::pmr::memory_resource* work) {
  BlockLayout out{std::pmr::vector<Block>(work), FixedTable<Block, uint32_t>(f.block_limit(), work),
                  FixedTable<Block, uint32_t>(f.block_limit(), work, no_loop)};
  out.order.reserve(flow.dominators.order().size());
  for (bool unlikely : {false, true})
    for (Block b : f.blocks())
      if (flow.dominators.reachable(b) && flow.frequencies.unlikely(b) == unlikely) out.order.push_back(b);
  turn_loops(f, flow.loops, out.order, work);
  for (size_t k = 0; k < out.order.size(); ++k) out.numbers[out.order[k]] = static_cast<uint32_t>(k);
  return out;
}

// Outer loops first: their headers come first in the order of dominators.
void number_loops(const FlowOf& flow, BlockLayout& layout, CodeRows<CodeLoop>& out) {
  for (Block b : flow.dominators.order()) {
    if (!flow.loops.is_header(b)) continue;
    Block outer = flow.loops.outer(b);
    layout.loops[b] = static_cast<uint32_t>(out.size());
    out.push_back({layout.numbers[b], outer.exists() ? layout.loops[outer] : no_loop, flow.loops.depth(b)});
  }
}

}  // namespace porphyry::machine
