#include "porphyry/analyze/loops.h"

namespace porphyry {

// Headers are taken innermost first (later in the order); a body is gathered backwards from its back edges
// and steps over inner loops by their headers, so that each block is walked once a nesting level.
Loops::Loops(const Function& f, const Dominators& dominators, std::pmr::memory_resource* memory)
    : depth_(f.block_limit(), memory), header_(f.block_limit(), memory), outer_(f.block_limit(), memory) {
  const auto& order = dominators.order();
  auto outermost_known = [&](Block b) {
    Block h = header_[b];
    while (h.exists() && outer_[h].exists()) h = outer_[h];
    return h;
  };
  Blocks work(memory);
  for (size_t k = order.size(); k-- > 0;) {
    Block header = order[k];
    work.clear();
    for (Edge e = f.first_in(header); e.exists(); e = f.next_in(e))
      if (dominators.dominates(header, f.from(e))) work.push_back(f.from(e));
    if (work.empty()) continue;
    header_[header] = header;
    while (!work.empty()) {
      Block b = work.back();
      work.pop_back();
      Block inner = outermost_known(b);
      if (inner == header) continue;
      Block through = inner.exists() ? inner : b;
      if (inner.exists())
        outer_[inner] = header;
      else
        header_[b] = header;
      for (Edge e = f.first_in(through); e.exists(); e = f.next_in(e))
        if (dominators.reachable(f.from(e))) work.push_back(f.from(e));
    }
  }
  for (Block b : order) {
    unsigned depth = 0;
    for (Block h = header_[b]; h.exists(); h = outer_[h]) ++depth;
    depth_[b] = depth;
  }
}

}  // namespace porphyry
