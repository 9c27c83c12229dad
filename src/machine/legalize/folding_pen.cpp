#include "folding_pen.h"

#include <algorithm>

#include "porphyry/ir/compute.h"
#include "porphyry/ir/typing.h"

namespace porphyry::machine {

void FoldingPen::put_in_place(Value old, Value v) {
  Function& f = function();
  if (Name n = f.name(old); n.exists() && f.kind(v) == ValueKind::Result && !f.name(v).exists())
    f.set_name(v, n), f.set_name(old, {});
  f.replace_uses(old, v);
}

Value FoldingPen::resized(Value v, Type to) {
  unsigned from = type(v).bits();
  return from < to.bits() ? widen_u(v, to) : narrow(v, to);
}
Value FoldingPen::resized_signed(Value v, Type to) {
  unsigned from = type(v).bits();
  return from < to.bits() ? widen_s(v, to) : narrow(v, to);
}

Value FoldingPen::make(Op op, std::span<const Value> v, Type result, uint8_t promises, uint8_t permits) {
  if (!result.exists()) {
    Type types[3], results[2];
    for (size_t k = 0; k < v.size(); ++k) types[k] = type(v[k]);
    result_types(op, {types, v.size()}, {}, results);
    result = results[0];
  }
  if (!result.has_lanes())
    if (Value k = known(op, v, result); k.exists()) return k;
  return function().result(
      put({.op = op, .operands = v, .results = {&result, 1}, .promises = promises, .permits = permits}));
}

// The value that the operation gives without being computed: constants folded, neutral operands dropped.
Value FoldingPen::known(Op op, std::span<const Value> v, Type result) {
  const Function& f = function();
  Type t = type(v.back());
  if (t.is_float() || t.has_lanes()) return {};
  auto constant = [&](size_t k) { return f.is_constant(v[k]) && !type(v[k]).is_float(); };
  bool all = true;
  Bits in[3];
  for (size_t k = 0; k < v.size(); ++k) {
    all &= constant(k) && !type(v[k]).has_lanes();
    if (all) in[k] = f.constant_word(v[k]);
  }
  if (all && !result.is_float() && !result.is_pointer()) {
    Computed c = compute(op, type(v[op == Op::Pick ? 1 : 0]), result, {in, v.size()});
    return c.trapped ? Value() : number(result, c.bits);
  }
  if (op == Op::Pick) {
    if (v[1] == v[2]) return v[1];
    return constant(0) ? (f.constant_word(v[0]) ? v[1] : v[2]) : Value();
  }
  if (op == Op::Narrow || op == Op::WidenU) {  // of a value that was just widened
    Instruction d = f.definition(v[0]);
    if (!d.exists() || f.op(d) != Op::WidenU || type(f.operand(d, 0)).is_float()) return {};
    Value inner = f.operand(d, 0);
    if (type(inner) == result) return inner;
    if (type(inner).is_bool() && result.bits() == 1) return {};
    if (type(inner).bits() < result.bits()) return make(Op::WidenU, {inner}, result);
    return type(inner).is_bool() ? Value() : make(Op::Narrow, {inner}, result);
  }
  if (v.size() != 2 || !(t.is_integer() || t.is_bool())) return {};
  size_t which = constant(1) ? 1 : constant(0) && info(op).commutes() ? 0 : 2;
  if (which == 2) return {};
  Bits k = f.constant_word(v[which]), full = mask_of(t.bits());
  Value other = v[1 - which];
  switch (op) {
    case Op::Add:
    case Op::Sub:
    case Op::Xor: return k == 0 ? other : Value();
    case Op::Or: return k == 0 ? other : k == full ? v[which] : Value();
    case Op::And: return k == full ? other : k == 0 ? v[which] : Value();
    case Op::Mul:
    case Op::MulHiU: return k == 0 ? v[which] : k == 1 && op == Op::Mul ? other : Value();
    case Op::Shl:
    case Op::ShrU:
    case Op::ShrS: return k % t.bits() == 0 ? other : Value();
    case Op::LtU: return k == 0 ? number(Type::boolean(), 0) : Value();
    default: return {};
  }
}

}  // namespace porphyry::machine
