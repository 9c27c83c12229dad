#include "porphyry/analyze/dominators.h"

#include <algorithm>
#include <utility>

#include "porphyry/ir/order.h"

namespace porphyry {

Dominators::Dominators(const Function& f, std::pmr::memory_resource* memory)
    : order_(reverse_postorder(f, memory)),
      number_(f.block_limit(), memory),
      immediate_(memory),
      enter_(memory),
      leave_(memory) {
  constexpr uint32_t unknown = 0xffffffff;
  for (size_t k = 0; k < order_.size(); ++k) number_[order_[k]] = static_cast<uint32_t>(k + 1);
  immediate_.assign(order_.size(), unknown);
  if (order_.empty()) return;
  immediate_[0] = 0;
  // Where no block asks for one that comes later, the first sweep settles all.
  bool went_back = false;
  for (bool changed = true; changed;) {
    changed = false;
    for (uint32_t k = 1; k < order_.size(); ++k) {
      uint32_t best = unknown;
      for (Edge e : f.edges_into(order_[k])) {
        uint32_t p = number_[f.from(e)];
        if (p == 0) continue;
        uint32_t other = p - 1;
        if (immediate_[other] == unknown) {
          went_back = true;
          continue;
        }
        if (best == unknown) best = other;
        while (best != other) {
          while (best > other) best = immediate_[best];
          while (other > best) other = immediate_[other];
        }
        if (best == 0) break;  // higher it cannot meet
      }
      if (immediate_[k] != best) immediate_[k] = best, changed = true;
    }
    changed &= went_back;
  }
  // Nested intervals answer "dominates" in O(1): a block's numbers follow those of its parent and of the
  // parent's earlier children. Parents come before their children, so sizes add up from the last to the
  // first.
  Numbers next(order_.size(), 1, memory);
  for (uint32_t k = static_cast<uint32_t>(order_.size()); k-- > 1;) next[immediate_[k]] += next[k];
  enter_.resize(order_.size());
  leave_.resize(order_.size());
  for (uint32_t k = 0; k < order_.size(); ++k) {
    uint32_t size = next[k];
    if (k > 0) enter_[k] = std::exchange(next[immediate_[k]], next[immediate_[k]] + size);
    leave_[k] = enter_[k] + size - 1;
    next[k] = enter_[k] + 1;  // where its own children begin
  }
}

Block Dominators::immediate(Block b) const {
  uint32_t n = number_[b];
  return n <= 1 ? Block() : order_[immediate_[n - 1]];
}

bool Dominators::dominates(Block a, Block b) const {
  uint32_t x = number_[a], y = number_[b];
  if (x == 0 || y == 0) return false;
  return enter_[x - 1] <= enter_[y - 1] && enter_[y - 1] <= leave_[x - 1];
}

bool Dominators::available(const Function& f, Value v, Instruction user) const {
  if (f.is_constant(v) || f.kind(v) == ValueKind::Parameter) return true;
  Block home = f.defining_block(v), there = f.block(user);
  if (home != there) return dominates(home, there);
  return f.kind(v) == ValueKind::BlockParameter || f.comes_before(f.definition(v), user);
}

Edge Dominators::only_way_in(const Function& function, Block b) const {
  Edge only;
  for (Edge e : function.edges_into(b)) {
    if (dominates(b, function.from(e))) continue;
    if (only.exists()) return Edge();
    only = e;
  }
  return only;
}

std::vector<std::vector<Block>> Dominators::frontiers(const Function& f) const {
  std::vector<std::vector<Block>> out(f.block_limit());
  for (Block b : order_) {
    Edge first = f.first_in(b);
    if (!first.exists() || (!f.next_in(first).exists() && b != f.entry())) continue;
    for (Edge e = first; e.exists(); e = f.next_in(e)) {
      if (!reachable(f.from(e))) continue;
      for (Block runner = f.from(e); runner.exists() && runner != immediate(b); runner = immediate(runner)) {
        auto& list = out[runner.index];
        if (list.empty() || list.back() != b) list.push_back(b);
      }
    }
  }
  return out;
}

}  // namespace porphyry
