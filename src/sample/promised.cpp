// Operations with promises that hold because their operands were made so, and permits that change nothing.
#include "maker.h"

namespace porphyry::sample {

Value Maker::shifted_down(Op op, Value v, unsigned by) {
  return pen_->write(op, {v, number(f_->type(v), by)});
}

void Maker::promised_operation() {
  Type t = any_integer(false);
  if (t.bits() < 7) t = Type::integer(32);
  unsigned half = t.bits() / 2;
  auto with = [&](Op op, std::initializer_list<Value> v, uint8_t promises) {
    keep(pen_->write(op, std::span<const Value>(v.begin(), v.size()), promises));
  };
  auto convert = [&](Op op, Type to, Value v, uint8_t promises) {
    keep(f_->result(pen_->put({.op = op, .operands = {&v, 1}, .results = {&to, 1}, .promises = promises})));
  };
  Value small_s[] = {shifted_down(Op::ShrS, value(t), half + 1), shifted_down(Op::ShrS, value(t), half + 1)};
  Value small_u[] = {shifted_down(Op::ShrU, value(t), half + 2), shifted_down(Op::ShrU, value(t), half + 2)};
  Value odd = pen_->write(Op::Or, {value(t), number(t, 1)});
  Value amount = pen_->write(Op::RemU, {value(t), number(t, t.bits() < 8 ? 2 : t.bits())});
  switch (below(17)) {
    case 0: return with(Op::Add, {small_s[0], small_s[1]}, promise::fits_s);
    case 1: return with(Op::Sub, {small_s[0], small_s[1]}, promise::fits_s);
    case 2: return with(Op::Mul, {small_u[0], small_u[1]}, promise::fits_u | promise::fits_s);
    case 3: return with(Op::Add, {small_u[0], small_u[1]}, promise::fits_u | promise::fits_s);
    case 4: return with(Op::Neg, {small_s[0]}, promise::fits_s);
    case 5:
      return with(Op::Shl, {small_u[0], number(t, 1)}, promise::fits_u | promise::fits_s | promise::bounded);
    case 6:
      return with(Op::ShrU, {pen_->write(Op::Shl, {value(t), number(t, 2)}), number(t, 2)},
                  promise::lossless);
    case 7: return with(Op::ShrS, {value(t), amount}, promise::bounded);
    case 8: return with(Op::RotL, {value(t), amount}, promise::bounded);
    case 9: return with(Op::Clz, {odd}, promise::nonzero);
    case 10: return with(Op::Ctz, {odd}, promise::nonzero);
    case 11: {
      Value mask = value(t);
      return with(Op::Or,
                  {pen_->write(Op::And, {value(t), mask}),
                   pen_->write(Op::And, {value(t), pen_->write(Op::Not, {mask})})},
                  promise::separate);
    }
    case 12:
      return with(Op::DivU, {pen_->mul(small_u[0], number(t, 3)), number(t, 3)},
                  promise::lossless | promise::nonzero);
    case 13: return with(Op::RemU, {value(t), odd}, promise::nonzero);
    case 14: {
      Type to = Type::integer(half + 3).with_lanes(t.lanes());
      return convert(Op::Narrow, to, small_u[0], promise::fits_u | promise::fits_s | promise::lossless);
    }
    case 15: {
      Type to = Type::f64().with_lanes(t.lanes());
      Value low = pen_->write(Op::And, {value(t), number(t, 0x7f)});
      return convert(Op::ToFloatU, to, low, promise::lossless);
    }
    default: {
      Type to = Type::f32().with_lanes(t.lanes());
      Value whole = pen_->convert(Op::ToFloatU, to, pen_->write(Op::And, {value(t), number(t, 0x3f)}));
      return convert(Op::ToIntS, t, whole, promise::lossless | promise::fits_s);
    }
  }
}

// Numbers that are neither NaN nor infinite nor -0, so that the permits allow one result only.
void Maker::permitted_operation() {
  Type t = (chance(50) ? Type::f32() : Type::f64()).with_lanes(chance(70) ? 1 : 4);
  Type i = Type::integer(16).with_lanes(t.lanes());
  auto whole = [&] {
    Value low = pen_->write(Op::And, {value(i), number(i, 0xff)});
    return pen_->convert(Op::ToFloatU, t, pen_->add(low, number(i, 1)));
  };
  static const Op ops[] = {Op::Add, Op::Mul, Op::Max, Op::Min};
  Value operands[] = {whole(), whole()};
  uint8_t permits = static_cast<uint8_t>(1 + below(permit::of_floats));
  keep(f_->result(
      pen_->put({.op = ops[below(4)], .operands = operands, .results = {&t, 1}, .permits = permits})));
}

}  // namespace porphyry::sample
