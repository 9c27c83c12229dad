#include "porphyry/ir/order.h"

#include <algorithm>

namespace porphyry {
namespace {

bool stands_above(const Function& f, const std::vector<uint32_t>& place, Value v, Block user) {
  if (!v.exists()) return true;
  Block home = f.defining_block(v);
  return !home.exists() || place[home.index] <= place[user.index];
}

bool is_readable(const Function& f, const Blocks& order, const std::vector<uint32_t>& place) {
  for (Block b : order)
    for (Instruction i : f.instructions(b)) {
      for (Value v : f.operands(i))
        if (!stands_above(f, place, v, b)) return false;
      for (Edge e : f.edges(i))
        for (Value v : f.arguments(e))
          if (!stands_above(f, place, v, b)) return false;
    }
  return true;
}

}  // namespace

Blocks reverse_postorder(const Function& f, std::pmr::memory_resource* memory) {
  Blocks order(memory);
  if (!f.entry().exists()) return order;
  order.reserve(f.block_limit());
  std::pmr::vector<uint8_t> seen(f.block_limit(), memory);
  struct Visit {
    Block block;
    uint32_t next = 0;  // of its edges
  };
  std::pmr::vector<Visit> way(memory);
  way.reserve(f.block_limit());
  auto visit = [&](Block b) {
    seen[b.index] = 1;
    way.push_back({b});
  };
  visit(f.entry());
  while (!way.empty()) {
    Visit& last = way.back();
    Function::EdgeRange edges = f.edges(last.block);
    if (last.next == edges.size()) {
      order.push_back(last.block);
      way.pop_back();
      continue;
    }
    Block to = f.to(edges[last.next++]);
    if (!seen[to.index]) visit(to);
  }
  std::reverse(order.begin(), order.end());
  return order;
}

Blocks readable_order(const Function& f) {
  Blocks order;
  std::vector<uint32_t> place(f.block_limit());
  for (Block b : f.blocks()) {
    place[b.index] = static_cast<uint32_t>(order.size());
    order.push_back(b);
  }
  if (order.empty() || is_readable(f, order, place)) return order;
  order = reverse_postorder(f);
  std::vector<uint8_t> reached(f.block_limit());
  for (Block b : order) reached[b.index] = 1;
  for (Block b : f.blocks())
    if (!reached[b.index]) order.push_back(b);
  return order;
}

void remove_unreachable_blocks(Function& f, std::pmr::memory_resource* memory) {
  FixedTable<Block, uint8_t> reached(f.block_limit(), memory);
  for (Block b : reverse_postorder(f, memory)) reached[b] = 1;
  Blocks gone(memory);
  for (Block b : f.blocks())
    if (!reached[b]) gone.push_back(b);
  auto loosen = [&](Slot s) { f.set(s, f.constant(f.type(f.value(s)), 0)); };
  for (Block b : gone)
    for (Instruction i : f.instructions(b)) {
      for (size_t k = 0; k < f.operand_count(i); ++k) loosen(f.operand_slot(i, k));
      for (Edge e : f.edges(i))
        for (size_t k = 0; k < f.argument_count(e); ++k) loosen(f.argument_slot(e, k));
    }
  for (Block b : gone)
    while (f.last(b).exists()) f.erase(f.last(b));
  for (Block b : gone) f.erase_block(b);
}

}  // namespace porphyry
