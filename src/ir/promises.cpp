// What promises mean, operation by operation.
#include "porphyry/ir/compute.h"
#include "porphyry/ir/words.h"

namespace porphyry {
namespace {

Bits once(Op op, Type operand, Type result, std::initializer_list<Bits> v, bool second = false) {
  Computed c = compute(op, operand, result, {v.begin(), v.size()});
  return second ? c.second : c.bits;
}

bool overflows(Op op, bool is_signed, Type t, Type result, std::span<const Bits> v) {
  auto over = [&](Op checked) { return once(checked, t, t, {v[0], v[1]}, true) != 0; };
  switch (op) {
    case Op::Add: return over(is_signed ? Op::AddOverS : Op::AddOverU);
    case Op::Sub: return over(is_signed ? Op::SubOverS : Op::SubOverU);
    case Op::Mul: return over(is_signed ? Op::MulOverS : Op::MulOverU);
    case Op::Neg:
    case Op::Abs: return v[0] == Bits(1) << (t.bits() - 1);
    case Op::Shl: {
      Bits shifted = once(Op::Shl, t, t, {v[0], v[1]});
      return once(is_signed ? Op::ShrS : Op::ShrU, t, t, {shifted, v[1]}) != v[0];
    }
    case Op::Narrow: {
      Bits low = v[0] & mask_of(result.bits());
      return (is_signed ? sign_extended(low, result.bits()) & mask_of(t.bits()) : low) != v[0];
    }
    // What saturates does not come back; a NaN does not either.
    case Op::ToIntS:
    case Op::ToIntU: {
      Bits whole = once(Op::Trunc, t, t, {v[0]});
      Bits back =
          once(op == Op::ToIntS ? Op::ToFloatS : Op::ToFloatU, result, t, {once(op, t, result, {v[0]})});
      return once(Op::Ne, t, Type::boolean(), {back, whole}) != 0;
    }
    default: return false;
  }
}

bool loses(Op op, Type t, Type result, std::span<const Bits> v) {
  switch (op) {
    case Op::DivS: return once(Op::RemS, t, t, {v[0], v[1]}) != 0;
    case Op::DivU: return once(Op::RemU, t, t, {v[0], v[1]}) != 0;
    case Op::ShrS:
    case Op::ShrU: return once(Op::Shl, t, t, {once(op, t, t, {v[0], v[1]}), v[1]}) != v[0];
    case Op::Narrow: {
      if (!t.is_float()) return overflows(op, false, t, result, v) && overflows(op, true, t, result, v);
      Bits back = once(Op::Widen, result, t, {once(Op::Narrow, t, result, {v[0]})});
      return once(Op::Eq, t, Type::boolean(), {back, v[0]}) == 0;
    }
    // Exact when the digits of the magnitude fit the mantissa, whatever zeros follow them.
    case Op::ToFloatS:
    case Op::ToFloatU: {
      Type wide = Type::integer(128);
      Bits number = op == Op::ToFloatS ? once(Op::Abs, wide, wide, {sign_extended(v[0], t.bits())}) : v[0];
      if (number == 0) return false;
      Bits outside = once(Op::Clz, wide, wide, {number}) + once(Op::Ctz, wide, wide, {number});
      return 128 - outside > (result.bits() == 32 ? 24 : 53);
    }
    case Op::ToIntS:
    case Op::ToIntU: {
      Bits back =
          once(op == Op::ToIntS ? Op::ToFloatS : Op::ToFloatU, result, t, {once(op, t, result, {v[0]})});
      return once(Op::Eq, t, Type::boolean(), {back, v[0]}) == 0;
    }
    default: return false;
  }
}

}  // namespace

uint8_t broken_promises(Op op, uint8_t promises, Type operand, Type result, std::span<const Bits> v) {
  uint8_t broken = 0;
  auto test = [&](uint8_t bit, auto&& breaks) {
    if (promises & bit && breaks()) broken |= bit;
  };
  test(promise::fits_s, [&] { return overflows(op, true, operand, result, v); });
  test(promise::fits_u, [&] { return overflows(op, false, operand, result, v); });
  test(promise::nonzero, [&] { return v[info(op).arity() == 2 ? 1 : 0] == 0; });
  if (!(broken & promise::nonzero)) test(promise::lossless, [&] { return loses(op, operand, result, v); });
  test(promise::bounded, [&] { return v[1] >= operand.bits(); });
  test(promise::separate, [&] { return (v[0] & v[1]) != 0; });
  return broken;
}

}  // namespace porphyry
