// A function's pool of constants, and what shuffles ask of it.
#pragma once

#include "porphyry/machine/code.h"

namespace porphyry::machine {

class ConstantPool {
 public:
  ConstantPool(const Function& f, CodeRows<PoolEntry>& out, std::pmr::memory_resource* work)
      : f_(f), out_(out), of_values_(work), others_(work) {}
  // The row of a constant value. O(lanes).
  uint32_t of(Value constant);
  // The row of what a rule brings along: there are a few.
  uint32_t of(const PoolEntry& entry);

 private:
  const Function& f_;
  CodeRows<PoolEntry>& out_;
  FixedTable<Value, uint32_t> of_values_;  // plus one; empty until it is needed
  std::pmr::vector<uint32_t> others_;
};

// A number in all lanes of a type.
PoolEntry repeated(Type t, Bits number);
// For a shuffle: the number of the byte that comes to each place, from the first value or the second; 128
// where it is from the other.
PoolEntry shuffled_bytes(const Function& f, Instruction shuffle, bool second);
// Its lanes in two bits each, counted in fours of bytes.
int64_t shuffled_order(const Function& f, Instruction shuffle);

}  // namespace porphyry::machine
