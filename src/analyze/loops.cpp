#include "porphyry/analyze/loops.h"

namespace porphyry {

// Headers are taken innermost first (later in the order); a body is gathered backwards from its back edges
// and steps over inner loops by their headers, so that each block is walked once a nesting level.
Loops::Loops(const Function& f, const Dominators& dominators) {
  const auto& order = dominators.order();
  SideTable<Block, Block> outer;  // of a loop, by its header
  auto outermost_known = [&](Block b) {
    Block h = header_.get(b);
    while (h.exists() && outer.get(h).exists()) h = outer.get(h);
    return h;
  };
  for (size_t k = order.size(); k-- > 0;) {
    Block header = order[k];
    std::vector<Block> work;
    for (Edge e = f.first_in(header); e.exists(); e = f.next_in(e))
      if (dominators.dominates(header, f.from(e))) work.push_back(f.from(e));
    if (work.empty()) continue;
    header_.set(header, header);
    while (!work.empty()) {
      Block b = work.back();
      work.pop_back();
      Block inner = outermost_known(b);
      if (inner == header) continue;
      Block through = inner.exists() ? inner : b;
      if (inner.exists())
        outer.set(inner, header);
      else
        header_.set(b, header);
      for (Edge e = f.first_in(through); e.exists(); e = f.next_in(e))
        if (dominators.reachable(f.from(e))) work.push_back(f.from(e));
    }
  }
  for (Block b : order) {
    unsigned depth = 0;
    for (Block h = header_.get(b); h.exists(); h = outer.get(h)) ++depth;
    depth_.set(b, depth);
  }
}

}  // namespace porphyry
