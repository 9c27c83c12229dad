// Strongly connected groups of numbered things (R. Tarjan, "Depth-First Search and Linear Graph Algorithms",
// 1972), without recursion.
#pragma once

#include <algorithm>
#include <cstdint>
#include <vector>

namespace porphyry {

// Of the numbers below `count`, each with arguments among them: numbers that are arguments of one another,
// over however many steps, are a ring. A ring stands behind those that its arguments are in. O(numbers +
// arguments).
class Rings {
 public:
  using Numbers = std::vector<uint32_t>;
  template <typename ArgumentsOf>  // (uint32_t, Numbers&): puts them behind what is there
  Rings(size_t count, ArgumentsOf arguments_of) : order_(count), low_(count) {
    for (uint32_t k = 0; k < count; ++k)
      if (!order_[k]) walk(k, arguments_of);
  }
  std::vector<Numbers> rings;

 private:
  struct Visit {
    uint32_t number;
    size_t first, next;  // of its arguments, which go on to the end of the list while it is the last one
  };
  template <typename ArgumentsOf>
  void walk(uint32_t first, ArgumentsOf arguments_of) {
    auto enter = [&](uint32_t k) {
      order_[k] = low_[k] = ++count_;
      waiting_.push_back(k);
      visits_.push_back({k, arguments_.size(), arguments_.size()});
      arguments_of(k, arguments_);
    };
    enter(first);
    while (!visits_.empty()) {
      Visit& v = visits_.back();
      if (v.next < arguments_.size()) {
        uint32_t k = arguments_[v.next++];
        if (!order_[k])
          enter(k);
        else if (order_[k] != done)
          low_[v.number] = std::min(low_[v.number], order_[k]);
        continue;
      }
      uint32_t k = v.number;
      arguments_.resize(v.first);
      visits_.pop_back();
      if (!visits_.empty()) low_[visits_.back().number] = std::min(low_[visits_.back().number], low_[k]);
      if (low_[k] == order_[k]) close(k);
    }
  }
  void close(uint32_t first) {
    Numbers ring;
    uint32_t k;
    do {
      k = waiting_.back();
      waiting_.pop_back();
      order_[k] = done;
      ring.push_back(k);
    } while (k != first);
    rings.push_back(std::move(ring));
  }

  static constexpr uint32_t done = 0xffffffff;
  Numbers order_, low_, waiting_, arguments_;
  std::vector<Visit> visits_;
  uint32_t count_ = 0;
};

}  // namespace porphyry
