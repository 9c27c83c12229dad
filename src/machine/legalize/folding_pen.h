// A pen that writes nothing where the result is known: legalization takes values apart, and most of the parts
// meet zeros, full masks and constant amounts.
#pragma once

#include "porphyry/ir/pen.h"

namespace porphyry::machine {

class FoldingPen : public Pen {
 public:
  using Pen::Pen;

  // A plain operation of one result on scalars; the result's type is stated where it does not follow.
  Value make(Op op, std::initializer_list<Value> operands, Type result = {}, uint8_t promises = 0,
             uint8_t permits = 0) {
    return make(op, std::span<const Value>(operands.begin(), operands.size()), result, promises, permits);
  }
  Value make(Op op, std::span<const Value> operands, Type result = {}, uint8_t promises = 0,
             uint8_t permits = 0);

  // All uses of `old` take `v`, and so does its name when it can.
  void put_in_place(Value old, Value v);

  Type type(Value v) const { return function().type(v); }
  Value number(Type t, Bits n) { return function().constant(t, n); }
  // The low bits, or zeros above, as the width asks for.
  Value resized(Value v, Type to);
  Value resized_signed(Value v, Type to);
  Value and_(Value a, Value b) { return make(Op::And, {a, b}); }
  Value and_(Value a, Bits mask) { return make(Op::And, {a, number(type(a), mask)}); }
  Value or_(Value a, Value b) { return make(Op::Or, {a, b}); }
  Value xor_(Value a, Value b) { return make(Op::Xor, {a, b}); }
  Value shl(Value v, unsigned by) { return make(Op::Shl, {v, number(type(v), by)}); }
  Value shr_u(Value v, unsigned by) { return make(Op::ShrU, {v, number(type(v), by)}); }
  Value shr_s(Value v, unsigned by) { return make(Op::ShrS, {v, number(type(v), by)}); }
  Value add(Value a, Value b) { return make(Op::Add, {a, b}); }
  Value sub(Value a, Value b) { return make(Op::Sub, {a, b}); }
  Value mul(Value a, Value b) { return make(Op::Mul, {a, b}); }
  Value neg(Value v) { return sub(number(type(v), 0), v); }
  Value eq(Value a, Value b) { return make(Op::Eq, {a, b}); }
  Value ne(Value a, Value b) { return make(Op::Ne, {a, b}); }
  Value ne(Value a, Bits n) { return make(Op::Ne, {a, number(type(a), n)}); }
  Value lt_u(Value a, Value b) { return make(Op::LtU, {a, b}); }
  Value lt_s(Value a, Value b) { return make(Op::LtS, {a, b}); }
  Value pick(Value c, Value a, Value b) { return make(Op::Pick, {c, a, b}); }
  Value widen_u(Value v, Type to) { return type(v) == to ? v : make(Op::WidenU, {v}, to); }
  Value widen_s(Value v, Type to) { return type(v) == to ? v : make(Op::WidenS, {v}, to); }
  Value narrow(Value v, Type to) { return type(v) == to ? v : make(Op::Narrow, {v}, to); }
  Value bits(Value v, Type to) { return type(v) == to ? v : make(Op::Bits, {v}, to); }

 private:
  Value known(Op op, std::span<const Value> v, Type result);
};

}  // namespace porphyry::machine
