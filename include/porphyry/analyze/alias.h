// What accesses may touch common bytes: from the objects that pointers lead to, offsets, `sole`, `const` and
// kinds.
//
//   AliasAnswer a = alias.of(alias.access(store), alias.access(load));
//   if (a.relation == Overlap::Never) note(a.why);
#pragma once

#include "porphyry/analyze/effects.h"

namespace porphyry {

// An address taken apart: `at` and sums with constants are folded into it.
struct MemoryAccess {
  static constexpr uint64_t unknown_size = ~uint64_t(0);
  Value base, index;  // index: nothing when there is none
  int64_t scale = 1, offset = 0;
  uint64_t size = unknown_size;  // bytes
  KindPath kind;
  bool as_unwritten = false;
};

enum class Overlap : uint8_t { Never, Maybe, Same };  // Same: all bytes of both
struct AliasAnswer {
  Overlap relation;
  const char* why;  // one line
};

class Alias {
 public:
  // All must outlive this. `marks` are those of the function's parameters.
  Alias(const Module& module, const Function& f, const FunctionFacts& facts)
      : module_(module), f_(f), facts_(facts) {}

  // Of a load, a store or a fill; of a copy what it writes.
  MemoryAccess access(Instruction i) const;
  // Of a load as if it had these operands.
  MemoryAccess access(Instruction load, std::span<const Value> operands) const;
  MemoryAccess read_by_copy(Instruction i) const;
  // Of bytes that begin where a pointer leads.
  MemoryAccess from(Value pointer, uint64_t size) const;
  // O(length of `at` chains) when made; O(1) here but for kinds.
  AliasAnswer of(const MemoryAccess& a, const MemoryAccess& b) const;
  // Whether the instruction may write bytes of the access. Volatile loads count as writes.
  bool may_write(Instruction i, const MemoryAccess& a, const CallEffects& effects) const;
  // Whether the instruction may read bytes of it; a return of the function reads what others can reach.
  bool may_read(Instruction i, const MemoryAccess& a, const CallEffects& effects) const;
  // Whether a pointer to the object may be known elsewhere: stored, passed on, compared by another name.
  // O(uses), once.
  bool escapes(Value root) const;

 private:
  enum class Root : uint8_t { Unknown, Parameter, Frame, Data, Fresh };
  Root root(Value base) const;
  MemoryAccess taken_apart(Value base, Value index, const Address& a, uint64_t size) const;

  const Module& module_;
  const Function& f_;
  const FunctionFacts& facts_;
  mutable SideTable<Value, uint8_t> escapes_;  // 1: no, 2: yes
};

}  // namespace porphyry
