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

// How often an edge is taken. What several edges from one block to blocks with other ways in share is taken
// to be shared alike.
float times(const Function& f, const Frequencies& frequencies, Edge e) {
  auto alone = [&](Block b) { return !f.next_in(f.first_in(b)).exists(); };
  if (alone(f.to(e))) return frequencies.of(f.to(e));
  float left = frequencies.of(f.from(e));
  unsigned shared = 0;
  for (Edge other : f.edges(f.from(e)))
    if (alone(f.to(other)))
      left -= frequencies.of(f.to(other));
    else
      ++shared;
  return left / static_cast<float>(shared);
}

// The blocks of a loop, its header first, as chains that fall through along the edges taken most; what is
// taken alike often stays as it is. A chain grows at both ends, by one edge at a time, the most taken one
// first.
class Chains {
 public:
  Chains(const Function& f, const Frequencies& frequencies, std::span<Block> blocks,
         const FixedTable<Block, uint32_t>& place, std::pmr::memory_resource* work)
      : blocks_(blocks),
        ways_(work),
        next_(blocks.size(), none, work),
        other_end_(work),
        is_first_(blocks.size(), 1, work) {
    for (uint32_t k = 0; k < blocks.size(); ++k) {
      other_end_.push_back(k);
      for (Edge e : f.edges(blocks[k]))
        if (uint32_t to = place[f.to(e)]; to > 0 && to < blocks.size() && blocks[to] == f.to(e))
          ways_.push_back({times(f, frequencies, e), k, to});
    }
    std::stable_sort(ways_.begin(), ways_.end(), [](const Way& a, const Way& b) {
      return a.times != b.times ? a.times > b.times : (a.to == a.from + 1) > (b.to == b.from + 1);
    });
  }
  void run() {
    for (const Way& w : ways_) join(w);
    std::pmr::vector<Block> out(ways_.get_allocator());
    for (uint32_t k = 0; k < blocks_.size(); ++k)
      for (uint32_t at = is_first_[k] ? k : none; at != none; at = next_[at]) out.push_back(blocks_[at]);
    std::copy(out.begin(), out.end(), blocks_.begin());
  }

 private:
  struct Way {
    float times;
    uint32_t from, to;  // in `blocks`
  };
  // `from` ends a chain, `to` begins another one. Of a chain both ends know each other.
  void join(const Way& w) {
    if (next_[w.from] != none || !is_first_[w.to] || other_end_[w.from] == w.to) return;
    next_[w.from] = w.to;
    is_first_[w.to] = 0;
    const uint32_t first = other_end_[w.from], last = other_end_[w.to];
    other_end_[first] = last, other_end_[last] = first;
  }

  std::span<Block> blocks_;
  std::pmr::vector<Way> ways_;
  std::pmr::vector<uint32_t> next_, other_end_;
  std::pmr::vector<uint8_t> is_first_;
};

// Innermost loops come to lie in one piece from their headers on, as chains.
void chain_loops(const Function& f, const FlowOf& flow, std::pmr::vector<Block>& order,
                 std::pmr::memory_resource* work) {
  FixedTable<Block, uint8_t> holds_loops(f.block_limit(), work, 0);
  for (Block b : order)
    if (flow.loops.is_header(b))
      if (Block outer = flow.loops.outer(b); outer.exists()) holds_loops[outer] = 1;
  auto unlikely = [&](Block b) { return flow.frequencies.unlikely(b); };
  auto innermost = [&](Block b) {
    Block h = flow.loops.header(b);
    return h.exists() && !holds_loops[h] && !unlikely(b) && !unlikely(h) ? h : Block();
  };
  FixedTable<Block, uint32_t> place(f.block_limit(), work,
                                    0);  // among the blocks of its loop, the header's first
  FixedTable<Block, uint32_t> count(f.block_limit(), work, 1), start(f.block_limit(), work, 0);  // by header
  for (Block b : order)
    if (Block h = innermost(b); h.exists() && b != h) place[b] = count[h]++;
  uint32_t blocks = 0;
  for (Block b : order)
    if (innermost(b) == b) start[b] = blocks, blocks += count[b];
  std::pmr::vector<Block> in_loops(blocks, work), out(work);
  for (Block b : order)
    if (Block h = innermost(b); h.exists()) in_loops[start[h] + place[b]] = b;
  out.reserve(order.size());
  for (Block b : order) {
    Block h = innermost(b);
    if (!h.exists()) out.push_back(b);
    if (h != b || !h.exists()) continue;
    std::span<Block> loop = std::span(in_loops).subspan(start[h], count[h]);
    if (loop.size() > 2) Chains(f, flow.frequencies, loop, place, work).run();
    out.insert(out.end(), loop.begin(), loop.end());
  }
  order = std::move(out);
}

}  // namespace

BlockLayout lay_out_blocks(const Function& f, const FlowOf& flow, std::pmr::memory_resource* work) {
  BlockLayout out{std::pmr::vector<Block>(work), FixedTable<Block, uint32_t>(f.block_limit(), work),
                  FixedTable<Block, uint32_t>(f.block_limit(), work, no_loop)};
  out.order.reserve(flow.dominators.order().size());
  for (bool unlikely : {false, true})
    for (Block b : f.blocks())
      if (flow.dominators.reachable(b) && flow.frequencies.unlikely(b) == unlikely) out.order.push_back(b);
  chain_loops(f, flow, out.order, work);
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
