// Operations by what they do and take, so that equal ones are found: a hash table over a function's
// instructions. Memory is one more operand of loads.
#pragma once

#include <bit>

#include "porphyry/analyze/memory_flow.h"

namespace porphyry {

class KnownOperations {
 public:
  // The function must outlive this.
  explicit KnownOperations(const Function& f)
      : f_(f), rows_(f.instruction_limit()), heads_(std::bit_ceil(f.instruction_limit() + 1)) {}

  // The newest that does what `like` would do to other operands, with the memory that it sees, and that
  // `fits` likes; nothing when there is none. O(1) on average, with a budget for those that do not fit.
  template <typename Fits>
  Instruction find(Instruction like, std::span<const Value> operands, MemoryVersion memory, Fits fits) const {
    uint32_t h = hash(like, operands, memory);
    // Of equal operations none of which dominates the others there may be many: branches of a choose.
    unsigned budget = 16;
    for (Instruction k = heads_[h & (heads_.size() - 1)]; k.exists() && budget; k = rows_[k].next, --budget)
      if (rows_[k].hash == h && rows_[k].memory == memory && f_.alive(k) && equal(k, like, operands) &&
          fits(k))
        return k;
    return {};
  }
  void add(Instruction i, MemoryVersion memory) {
    read_operands(i, operands_);
    uint32_t h = hash(i, operands_, memory);
    if (!rows_.holds(i)) rows_.resize(f_.instruction_limit());
    Instruction& head = heads_[h & (heads_.size() - 1)];
    rows_[i] = {head, h, memory};
    head = i;
  }
  void read_operands(Instruction i, std::vector<Value>& out) const {
    out.clear();
    for (Value v : f_.operands(i)) out.push_back(v);
  }

 private:
  struct Row {
    Instruction next;
    uint32_t hash = 0;
    MemoryVersion memory;
  };
  bool exchangeable(Instruction i) const { return info(f_.op(i)).commutes() && f_.operand_count(i) == 2; }
  uint32_t hash(Instruction i, std::span<const Value> operands, MemoryVersion memory) const;
  bool equal(Instruction known, Instruction like, std::span<const Value> operands) const;

  const Function& f_;
  Table<Instruction, Row> rows_;    // chains, the newest first
  std::vector<Instruction> heads_;  // a power of two
  std::vector<Value> operands_;
};

}  // namespace porphyry
