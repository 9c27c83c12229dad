#include "porphyry/analyze/loops.h"

#include "porphyry/analyze/facts.h"

namespace porphyry {

// Headers are taken innermost first (later in the order); a body is gathered backwards from its back edges
// and steps over inner loops by their headers. Which loop is the outermost one found so far around a block is
// kept in a forest whose ways are shortened as they are walked (R. Tarjan, 1975).
Loops::Loops(const Function& f, Facts& facts) : Loops(f, facts.get<Dominators>()) {}

Loops::Loops(const Function& f, const Dominators& dominators, std::pmr::memory_resource* memory)
    : depth_(f.block_limit(), memory),
      header_(f.block_limit(), memory),
      outer_(f.block_limit(), memory),
      nest_(f.block_limit(), memory) {
  const auto& order = dominators.order();
  FixedTable<Block, Block> towards(f.block_limit(), memory);  // by header: itself, or one further out
  auto outermost_known = [&](Block b) {
    Block h = header_[b];
    while (h.exists() && towards[h] != h) h = towards[h] = towards[towards[h]];
    return h;
  };
  Blocks work(memory);
  for (size_t k = order.size(); k-- > 0;) {
    Block header = order[k];
    work.clear();
    for (Edge e : f.edges_into(header))
      if (dominators.dominates(header, f.from(e))) work.push_back(f.from(e));
    if (work.empty()) continue;
    header_[header] = towards[header] = header;
    while (!work.empty()) {
      Block b = work.back();
      work.pop_back();
      Block inner = outermost_known(b);
      if (inner == header) continue;
      Block through = inner.exists() ? inner : b;
      if (inner.exists())
        outer_[inner] = towards[inner] = header;
      else
        header_[b] = header;
      for (Edge e : f.edges_into(through))
        if (dominators.reachable(f.from(e))) work.push_back(f.from(e));
    }
  }
  number(order);
}

bool is_reducible(const Function& f, const Dominators& dominators) {
  SideTable<Block, uint8_t> passed;
  for (Block b : dominators.order()) {
    passed.set(b, 1);
    for (Edge e : f.edges(b))
      if (passed.get(f.to(e)) && !dominators.dominates(f.to(e), b)) return false;
  }
  return true;
}

// An outer header stands before the inner ones in the order, and a header before the rest of its loop.
void Loops::number(const Blocks& order) {
  for (size_t k = order.size(); k-- > 0;) {
    Block b = order[k];
    if (!is_header(b)) continue;
    ++nest_[b].count;
    if (outer_[b].exists()) nest_[outer_[b]].count += nest_[b].count;
  }
  uint32_t outermost = 0;
  for (Block b : order) {
    Block header = header_[b];
    if (header == b) {
      Block outer = outer_[b];
      uint32_t& taken = outer.exists() ? nest_[outer].taken : outermost;
      nest_[b].place = (outer.exists() ? nest_[outer].place + 1 : 0) + taken;
      taken += nest_[b].count;
      depth_[b] = outer.exists() ? depth_[outer] + 1 : 1;
    } else if (header.exists()) {
      depth_[b] = depth_[header];
    }
  }
}

}  // namespace porphyry
