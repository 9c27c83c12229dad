// The rules of a book in the order in which instructions ask for them: by the operation and type at the root
// and by the operation and type of the first inner node. Made once for a target and its features; constant
// after that.
#pragma once

#include <vector>

#include "porphyry/ir/function.h"
#include "porphyry/machine/target.h"

namespace porphyry::machine {

class RuleIndex {
 public:
  RuleIndex(const Target& target, uint8_t features);

  const Target& target() const { return *target_; }
  uint8_t features() const { return features_; }
  // What the right side of a rule does with its variables, a bit each.
  struct Facts {
    uint16_t in_register = 0;  // wanted in a register
    uint16_t overwritten = 0;  // read where the same operand is written
  };
  const Facts& facts(size_t rule) const { return facts_[rule]; }
  // Rules that may cover the instruction, in no order. O(log rules + those it gives).
  template <class See>
  void candidates(const Function& f, Instruction i, See see) const {
    uint32_t root = root_key(f, i), seen[4] = {none, none, none, none};
    give(root | none, see);
    for (size_t k = 0; k < f.operand_count(i) && k < 3; ++k) {
      uint32_t inner = inner_key(f, f.operand(i, k));
      bool again = inner == none;
      for (size_t j = 0; j < k; ++j) again |= seen[j] == inner;
      seen[k] = inner;
      if (!again) give(root | inner, see);
    }
  }

 private:
  struct Entry {
    uint32_t key;
    uint16_t rule;
  };
  static constexpr uint32_t none = 0xffff;  // no inner node
  static uint32_t root_key(const Function& f, Instruction i);
  static uint32_t inner_key(const Function& f, Value v);

  template <class See>
  void give(uint32_t key, See see) const {
    size_t low = 0, high = entries_.size();
    while (low < high) {
      size_t middle = (low + high) / 2;
      if (entries_[middle].key < key)
        low = middle + 1;
      else
        high = middle;
    }
    for (; low < entries_.size() && entries_[low].key == key; ++low) see(entries_[low].rule);
  }

  const Target* target_;
  uint8_t features_;
  std::vector<Entry> entries_;  // by key, then rule
  std::vector<Facts> facts_;    // by rule
};

}  // namespace porphyry::machine
