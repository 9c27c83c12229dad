// Small changes of functions that many passes make.
#pragma once

#include <unordered_set>

#include "porphyry/ir/function.h"

namespace porphyry {

// Which of its ways a `when` or `choose` takes for a number. O(cases).
size_t way_of(const Function& f, Instruction branch, Bits number);

// The branch that an edge leaves becomes a `go` along it. The edge's handle is gone; what the other ways lead
// to may be unreachable.
void always_take(Function& f, Edge way);

// Whether a block begins with a trap, so that it does nothing else.
inline bool only_traps(const Function& f, Block b) {
  Instruction first = f.first(b);
  return first.exists() && f.op(first) == Op::Trap;
}

// Whether permits for floats say something of an instruction.
bool touches_floats(const Function& f, Instruction i);

// Whether an operation only makes its results: from its operands, or memory that it reads.
inline bool computes(Op op) {
  return info(op).is_plain() || op == Op::At || op == Op::AddressOf || op == Op::Load;
}

// `name_2`, `name_3`, …: names that no value of a function has. O(values) when made.
class FurtherNames {
 public:
  FurtherNames(Realm& realm, const Function& f);
  Name next(Name base);

 private:
  Realm& realm_;
  std::unordered_set<uint32_t> taken_;
};

// What a block parameter is given where only one edge leads to its block, and so on; any other value itself.
Value given(const Function& f, Value v);

// A constant from the bits of its lanes, lane 0 first; one of a scalar from its only ones.
Value constant_from(Function& f, Type type, std::span<const Bits> lanes);

// Gives a value's name to the one that takes its place: a result that has none.
void hand_name_over(Function& f, Value from, Value to);

}  // namespace porphyry
