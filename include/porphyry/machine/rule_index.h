// The rules of a book in the order in which instructions ask for them: by the operation and type at the root
// and by the operation and type of the first inner node. The book has them in this order already, so that an
// index is made in one walk, which leaves out what wants other features: O(rules), some 10 us for 2,400.
// Constant after that.
#pragma once

#include <algorithm>
#include <array>
#include <span>
#include <vector>

#include "porphyry/ir/function.h"
#include "porphyry/machine/target.h"

namespace porphyry::machine {

class RuleIndex {
 public:
  RuleIndex(const Target& target, Features features);

  const Target& target() const { return *target_; }
  Features features() const { return features_; }
  const RuleFacts& facts(size_t rule) const { return target_->rules[rule]; }
  // Rules that may cover the instruction, in several runs, each from cheap to expensive; when `see` gives
  // false, the rest of the run is left out. O(log rules + those it gives).
  template <class See>
  void candidates(const Function& f, Instruction i, See see) const {
    uint16_t root = root_key(f, i), seen[3] = {no_node_key, no_node_key, no_node_key};
    std::span<const Entry> of_root{entries_.data() + first_[root], entries_.data() + first_[root + 1]};
    if (of_root.empty()) return;
    Constants constants;
    size_t count = std::min<size_t>(f.operand_count(i), 3);
    for (size_t k = 0; k < count; ++k)
      if (Value v = f.operand(i, k); f.is_constant(v)) constants.add(k, f.constant_bits(v));
    if (info(f.op(i)).commutes() && constants.at) constants.at = any;
    give(of_root, no_node_key, constants, see);
    for (size_t k = 0; k < count; ++k) {
      uint16_t inner = inner_key(f, f.operand(i, k));
      bool again = inner == no_node_key;
      for (size_t j = 0; j < k; ++j) again |= seen[j] == inner;
      seen[k] = inner;
      if (!again) give(of_root, inner, constants, see);
    }
  }

 private:
  struct Entry {
    uint16_t inner, rule;
    uint8_t constants, literal;
  };
  static constexpr uint8_t any = 7;
  // Of an instruction's operands. Most rules for single numbers are left out by a number's lowest byte.
  struct Constants {
    uint8_t at = 0;  // a bit each
    std::array<uint8_t, 3> lowest{};
    void add(size_t k, uint64_t bits) { at |= uint8_t(1u << k), lowest[k] = static_cast<uint8_t>(bits); }
    bool may_fit(const Entry& e) const {
      if (e.constants & any & ~at) return false;
      return !(e.constants & RuleFacts::whole_literal) || e.literal == lowest[0] || e.literal == lowest[1] ||
             e.literal == lowest[2];
    }
  };
  uint16_t root_key(const Function& f, Instruction i) const;
  static uint16_t inner_key(const Function& f, Value v);

  template <class See>
  static void give(std::span<const Entry> of_root, uint16_t inner, const Constants& constants, See see) {
    auto at =
        std::partition_point(of_root.begin(), of_root.end(), [&](const Entry& e) { return e.inner < inner; });
    for (; at != of_root.end() && at->inner == inner; ++at)
      if (constants.may_fit(*at) && !see(at->rule)) return;
  }

  const Target* target_;
  Features features_;
  std::vector<Entry> entries_;   // by root, inner node, cost, rule
  std::vector<uint16_t> first_;  // by root key: its first entry; one more at the end
};

}  // namespace porphyry::machine
