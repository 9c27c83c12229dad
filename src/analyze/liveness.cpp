#include "porphyry/analyze/liveness.h"

#include <algorithm>

namespace porphyry {

Liveness::Liveness(const Function& f) : at_start_(f.block_limit()) {
  // Values one after the other, so that each block's list is in order and its last row tells whether a value
  // is there.
  std::vector<Block> work;
  for (size_t k = 0; k < f.value_limit(); ++k) {
    Value v(k);
    if (f.is_constant(v) || !f.has_uses(v)) continue;
    Block home = f.defining_block(v);
    auto wanted = [&](Block b) {
      auto& list = at_start_[b.index];
      if (b == home || (!list.empty() && list.back() == v)) return;
      list.push_back(v);
      work.push_back(b);
    };
    for (Slot s : f.uses(v)) wanted(f.block(f.use(s).user));
    while (!work.empty()) {
      Block b = work.back();
      work.pop_back();
      for (Edge e : f.edges_into(b)) wanted(f.from(e));
    }
  }
}

bool Liveness::is_live_at_start(Block b, Value v) const {
  const auto& list = at_start_[b.index];
  return std::binary_search(list.begin(), list.end(), v, [](Value x, Value y) { return x.index < y.index; });
}

}  // namespace porphyry
