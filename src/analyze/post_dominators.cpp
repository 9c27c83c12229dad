#include "porphyry/analyze/post_dominators.h"

#include <algorithm>

namespace porphyry {
namespace {

// Blocks from which an end can be reached, ends first, each before those that only lead to it.
std::vector<Block> from_the_ends(const Function& f) {
  std::vector<Block> order;
  std::vector<uint8_t> seen(f.block_limit());
  struct Visit {
    Block block;
    Edge next;
  };
  std::vector<Visit> way;
  for (Block end : f.blocks()) {
    if (!f.edges(end).size() && !seen[end.index]) seen[end.index] = 1, way.push_back({end, f.first_in(end)});
    while (!way.empty()) {
      Visit& v = way.back();
      if (!v.next.exists()) {
        order.push_back(v.block);
        way.pop_back();
        continue;
      }
      Block from = f.from(v.next);
      v.next = f.next_in(v.next);
      if (!seen[from.index]) seen[from.index] = 1, way.push_back({from, f.first_in(from)});
    }
  }
  std::reverse(order.begin(), order.end());
  return order;
}

}  // namespace

PostDominators::PostDominators(const Function& f)
    : immediate_(f.block_limit()),
      number_(f.block_limit()),
      enter_(f.block_limit()),
      leave_(f.block_limit()) {
  std::vector<Block> order = from_the_ends(f);
  // Place 0 is the end behind all ends.
  constexpr uint32_t unknown = ~uint32_t(0);
  for (size_t k = 0; k < order.size(); ++k) number_[order[k]] = static_cast<uint32_t>(k + 1);
  std::vector<uint32_t> up(order.size() + 1, unknown);
  up[0] = 0;
  for (bool changed = true; changed;) {
    changed = false;
    for (uint32_t k = 1; k < up.size(); ++k) {
      auto edges = f.edges(order[k - 1]);
      uint32_t best = edges.size() ? unknown : 0;
      for (Edge e : edges) {
        // A way that reaches no end says nothing.
        uint32_t other = number_[f.to(e)];
        if (other == 0 || up[other] == unknown) continue;
        if (best == unknown) best = other;
        while (best != other) {
          while (best > other) best = up[best];
          while (other > best) other = up[other];
        }
      }
      if (best != unknown && up[k] != best) up[k] = best, changed = true;
    }
  }
  std::vector<uint32_t> size(up.size(), 1), next(up.size());
  for (uint32_t k = static_cast<uint32_t>(up.size()); k-- > 1;) size[up[k]] += size[k];
  next[0] = 1;
  for (uint32_t k = 1; k < up.size(); ++k) {
    Block b = order[k - 1];
    if (up[k]) immediate_[b] = order[up[k] - 1];
    enter_[b] = next[up[k]];
    next[up[k]] += size[k];
    leave_[b] = enter_[b] + size[k] - 1;
    next[k] = enter_[b] + 1;
  }
}

bool PostDominators::post_dominates(Block a, Block b) const {
  if (a == b) return true;
  if (!number_[a] || !number_[b]) return false;
  return enter_[a] <= enter_[b] && enter_[b] <= leave_[a];
}

ControlDependence::ControlDependence(const Function& f, const PostDominators& post)
    : edges_(f.block_limit()) {
  for (Block a : f.blocks()) {
    if (f.edges(a).size() < 2) continue;
    for (Edge e : f.edges(a))
      for (Block b = f.to(e); b.exists() && b != post.immediate(a); b = post.immediate(b))
        edges_[b.index].push_back(e);
  }
}

}  // namespace porphyry
