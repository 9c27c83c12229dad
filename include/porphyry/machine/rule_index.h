// The rules of a book in the order in which instructions ask for them: by the operation and type at the root
// and by the operation and type of the first inner node. Made once for a target and its features; constant
// after that.
#pragma once

#include <algorithm>
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
  // What the right side of a rule does with the variables of its pattern, a bit each.
  struct Facts {
    uint16_t in_register = 0;  // wanted in a register
    uint16_t overwritten = 0;  // read where the same operand is written
    // What it writes at most: instructions with copies before them, operands, registers of its own.
    uint8_t lines = 0, operands = 0, temporaries = 0;
    bool aligned = false;  // memory is accessed at multiples of its size only
  };
  const Facts& facts(size_t rule) const { return facts_[rule]; }
  // Rules that may cover the instruction, in several runs, each from cheap to expensive; when `see` gives
  // false, the rest of the run is left out. O(log rules + those it gives).
  template <class See>
  void candidates(const Function& f, Instruction i, See see) const {
    uint32_t root = root_key(f, i), seen[3] = {no_inner, no_inner, no_inner};
    std::span<const Entry> of_root{entries_.data() + first_[root], entries_.data() + first_[root + 1]};
    if (of_root.empty()) return;
    uint8_t constants = 0;
    size_t count = std::min<size_t>(f.operand_count(i), 3);
    for (size_t k = 0; k < count; ++k)
      constants |= static_cast<uint8_t>(f.is_constant(f.operand(i, k)) ? 1u << k : 0);
    if (info(f.op(i)).commutes() && constants) constants = any;
    give(of_root, no_inner, constants, see);
    for (size_t k = 0; k < count; ++k) {
      uint32_t inner = inner_key(f, f.operand(i, k));
      bool again = inner == no_inner;
      for (size_t j = 0; j < k; ++j) again |= seen[j] == inner;
      seen[k] = inner;
      if (!again) give(of_root, inner, constants, see);
    }
  }

 private:
  struct Entry {
    uint16_t root, inner;  // keys of the nodes
    uint16_t rule;
    uint8_t constants;  // operands that have to be constants, a bit each
  };
  static constexpr uint32_t no_inner = 0xffff;  // no inner node; stands last
  static constexpr uint8_t any = 7;
  uint32_t root_key(const Function& f, Instruction i) const;
  static uint32_t inner_key(const Function& f, Value v);

  template <class See>
  static void give(std::span<const Entry> of_root, uint32_t inner, uint8_t constants, See see) {
    auto at =
        std::partition_point(of_root.begin(), of_root.end(), [&](const Entry& e) { return e.inner < inner; });
    for (; at != of_root.end() && at->inner == inner; ++at)
      if (!(at->constants & ~constants) && !see(at->rule)) return;
  }

  const Target* target_;
  Features features_;
  std::vector<Entry> entries_;   // by root, inner node, cost, rule
  std::vector<uint16_t> first_;  // by root key: its first entry; one more at the end
  std::vector<Facts> facts_;     // by rule
};

}  // namespace porphyry::machine
