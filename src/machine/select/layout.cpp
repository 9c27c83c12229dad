#include "layout.h"

#include <algorithm>
#include <tuple>

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

// The blocks of a loop, its header first, become chains that fall through along the edges taken most; what is
// taken alike often stays as it is. A chain grows at both ends, by one edge at a time, the most taken one
// first.
class Chains {
 public:
  Chains(const Function& f, const FlowOf& flow) : f_(f), flow_(flow) {}

  // `place`: of each of the blocks among them.
  void order(std::span<Block> blocks, const FixedTable<Block, uint32_t>& place) {
    links_.clear(), ways_.clear(), out_.clear();
    for (uint32_t k = 0; k < blocks.size(); ++k) {
      links_.push_back({none, k, true});
      for (Edge e : f_.edges(blocks[k]))
        if (uint32_t to = place[f_.to(e)]; to > 0 && to < blocks.size() && blocks[to] == f_.to(e))
          ways_.push_back({times(f_, flow_.frequencies, e), k, to});
    }
    // Alike often: what stays behind it, but in front of a `choose` its numbers are taken to be in range.
    auto rank = [&](const Way& w) {
      if (f_.op(f_.terminator(blocks[w.to])) == Op::Choose) return 0;
      return w.to == w.from + 1 ? 1 : 2;
    };
    std::sort(ways_.begin(), ways_.end(), [&](const Way& a, const Way& b) {
      return std::tuple(-a.times, rank(a), a.from, a.to) < std::tuple(-b.times, rank(b), b.from, b.to);
    });
    for (const Way& w : ways_) join(w);
    for (uint32_t k = 0; k < blocks.size(); ++k) {
      for (uint32_t at = links_[k].is_first ? k : none; at != none; at = links_[at].next)
        out_.push_back(blocks[at]);
      if (k == 0 && ends_in_a_detour()) std::rotate(out_.begin(), out_.end() - 1, out_.end());
    }
    std::copy(out_.begin(), out_.end(), blocks.begin());
  }

 private:
  struct Way {
    float times;
    uint32_t from, to;  // places
  };
  struct Link {
    uint32_t next, other_end;  // of an end of a chain: where the other one is
    bool is_first;
  };
  // The header's chain ends with a block that only goes back, behind one that leaves the loop: in front of
  // the header it falls into it, and one jump a round is enough; entering the loop takes one more.
  bool ends_in_a_detour() const {
    if (out_.size() < 2) return false;
    const Instruction back = f_.terminator(out_.back()), end = f_.terminator(out_[out_.size() - 2]);
    if (f_.op(back) != Op::Go || f_.to(f_.edge(back, 0)) != out_[0] || f_.op(end) != Op::When) return false;
    for (size_t way : {0u, 1u})
      if (f_.to(f_.edge(end, way)) == out_.back())
        return !flow_.loops.contains(out_[0], f_.to(f_.edge(end, 1 - way)));
    return false;
  }
  // `from` ends a chain, and `to` begins another one.
  void join(const Way& w) {
    if (links_[w.from].next != none || !links_[w.to].is_first || links_[w.from].other_end == w.to) return;
    links_[w.from].next = w.to;
    links_[w.to].is_first = false;
    const uint32_t first = links_[w.from].other_end, last = links_[w.to].other_end;
    links_[first].other_end = last, links_[last].other_end = first;
  }

  const Function& f_;
  const FlowOf& flow_;
  std::vector<Way> ways_;
  std::vector<Link> links_;
  std::vector<Block> out_;
};

// Innermost loops come to lie in one piece from their headers on, as chains.
void chain_loops(const Function& f, const FlowOf& flow, std::pmr::vector<Block>& order) {
  if (std::none_of(order.begin(), order.end(), [&](Block b) { return flow.loops.is_header(b); })) return;
  struct InnerLoop {
    uint32_t blocks = 0, start = 0;
    bool holds_loops = false;
  };
  FixedTable<Block, InnerLoop> loops(f.block_limit(), std::pmr::get_default_resource());  // by header
  for (Block b : order)
    if (flow.loops.is_header(b))
      if (Block outer = flow.loops.outer(b); outer.exists()) loops[outer].holds_loops = true;
  auto unlikely = [&](Block b) { return flow.frequencies.unlikely(b); };
  auto innermost = [&](Block b) {
    Block h = flow.loops.header(b);
    return h.exists() && !loops[h].holds_loops && !unlikely(b) && !unlikely(h) ? h : Block();
  };
  FixedTable<Block, uint32_t> place(
      f.block_limit(), std::pmr::get_default_resource());  // among the blocks of its loop, the header's first
  for (Block b : order)
    if (Block h = innermost(b); h.exists()) place[b] = b == h ? 0 : ++loops[h].blocks;
  uint32_t all = 0;
  for (Block b : order)
    if (innermost(b) == b) loops[b].start = all, all += ++loops[b].blocks;
  if (all == 0) return;
  std::vector<Block> in_loops(all), out;
  for (Block b : order)
    if (Block h = innermost(b); h.exists()) in_loops[loops[h].start + place[b]] = b;
  out.reserve(order.size());
  Chains chains(f, flow);
  for (Block b : order) {
    Block h = innermost(b);
    if (!h.exists()) out.push_back(b);
    if (!h.exists() || h != b) continue;
    std::span<Block> loop = std::span(in_loops).subspan(loops[h].start, loops[h].blocks);
    if (loop.size() > 2) chains.order(loop, place);
    out.insert(out.end(), loop.begin(), loop.end());
  }
  std::copy(out.begin(), out.end(), order.begin());
}

// Where a block is followed by none of those that it goes to, and one of them begins a stretch that none
// falls into, that stretch comes next: one jump less.
void close_gaps(const Function& f, std::pmr::vector<Block>& order, std::pmr::memory_resource* work) {
  constexpr uint32_t nothing = 0xffffffff;
  struct Stretch {
    uint32_t first, last;     // places in `order`
    uint32_t next = nothing;  // stretches
    bool follows = false;     // another one
  };
  std::pmr::vector<Stretch> stretches(work);
  FixedTable<Block, uint32_t> begun_by(f.block_limit(), work, nothing);  // the block: the stretch
  auto leads = [&](Block from, Block to) {
    for (Edge e : f.edges(from))
      if (f.to(e) == to) return true;
    return false;
  };
  for (uint32_t k = 0; k < order.size(); ++k) {
    if (k == 0 || !leads(order[k - 1], order[k])) {
      begun_by[order[k]] = static_cast<uint32_t>(stretches.size());
      stretches.push_back({k, k});
    }
    stretches.back().last = k;
  }
  if (stretches.size() < 3) return;
  // Of a row of stretches: by its last one, which is the first; and by its first one, which is the last.
  std::pmr::vector<uint32_t> heads(stretches.size(), work), ends(stretches.size(), work);
  for (uint32_t s = 0; s < stretches.size(); ++s) heads[s] = ends[s] = s;
  for (uint32_t s = 0; s < stretches.size(); ++s)
    for (Edge e : f.edges(order[stretches[s].last])) {
      const uint32_t to = begun_by[f.to(e)];
      if (to == nothing || to == 0 || stretches[to].follows || heads[s] == to) continue;
      stretches[s].next = to, stretches[to].follows = true;
      ends[heads[s]] = ends[to], heads[ends[to]] = heads[s];
      break;
    }
  std::pmr::vector<Block> out(work);
  out.reserve(order.size());
  for (uint32_t s = 0; s < stretches.size(); ++s)
    for (uint32_t at = stretches[s].follows ? nothing : s; at != nothing; at = stretches[at].next)
      out.insert(out.end(), order.begin() + stretches[at].first, order.begin() + stretches[at].last + 1);
  std::ranges::copy(out, order.begin());
}

}  // namespace

BlockLayout lay_out_blocks(const Function& f, const FlowOf& flow, bool counts_bytes,
                           std::pmr::memory_resource* work) {
  BlockLayout out{std::pmr::vector<Block>(work), FixedTable<Block, uint32_t>(f.block_limit(), work),
                  FixedTable<Block, uint32_t>(f.block_limit(), work, no_loop)};
  out.order.reserve(flow.dominators.order().size());
  for (bool unlikely : {false, true})
    for (Block b : f.blocks())
      if (flow.dominators.reachable(b) && flow.frequencies.unlikely(b) == unlikely) out.order.push_back(b);
  chain_loops(f, flow, out.order);
  turn_loops(f, flow.loops, out.order, work);
  if (counts_bytes) close_gaps(f, out.order, work);
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
