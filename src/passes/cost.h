// What passes take operations to cost, in plain instructions, where the target is not asked.
#pragma once

#include "porphyry/ir/function.h"

namespace porphyry {

constexpr unsigned cost_of(Op op) {
  switch (op) {
    case Op::Mul:
    case Op::MulHiS:
    case Op::MulHiU: return 3;
    case Op::Pick: return 2;
    case Op::Div:
    case Op::Sqrt:
    case Op::Fma:
    case Op::DivS:
    case Op::DivU:
    case Op::RemS:
    case Op::RemU: return 20;
    case Op::Rem: return 60;
    default: return 1;
  }
}

// A comparison that nothing else uses is one with the branch that asks for it, and takes no register.
inline bool is_comparison_for_one(const Function& f, Value v) {
  const Instruction d = f.definition(v);
  return d.exists() && info(f.op(d)).result == ResultRule::Truth && f.has_one_use(v);
}

// Whether keeping its result in a register is better than computing it once more: what takes longer than a
// plain instruction, floats and loads among it.
inline bool costs_much(const Function& f, Instruction i) {
  const OperationInfo& row = info(f.op(i));
  bool float_sum = row.is_plain() && row.layout == Layout::Two && f.type(f.result(i)).is_float();
  return f.op(i) == Op::Load || f.op(i) == Op::Splat || float_sum || cost_of(f.op(i)) >= 3;
}

}  // namespace porphyry
