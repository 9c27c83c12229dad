// How often edges were taken, by function.
#pragma once

#include <vector>

#include "porphyry/ir/function.h"

namespace porphyry {

struct EdgeCounts {
  std::vector<std::vector<uint64_t>> of;  // by symbol, by edge; shorter where the last were never taken

  void take(Symbol function, Edge e) {
    if (function.index >= of.size()) of.resize(function.index + 1);
    auto& edges = of[function.index];
    if (e.index >= edges.size()) edges.resize(e.index + 1);
    ++edges[e.index];
  }
  uint64_t taken(Symbol function, Edge e) const {
    return function.index < of.size() && e.index < of[function.index].size() ? of[function.index][e.index]
                                                                             : 0;
  }
  bool ran(Symbol function) const { return function.index < of.size() && !of[function.index].empty(); }
};

}  // namespace porphyry
