#include "expand.h"

#include <bit>
#include <cmath>

#include "porphyry/ir/compute.h"

namespace porphyry::machine {
namespace {

using types::i32, types::i64;

Type bits_type(Type t) { return Type::integer(t.bits()); }

// Whether a narrow operation looks at its operands as signed numbers.
bool is_signed(Op op) {
  switch (op) {
    case Op::ShrS:
    case Op::RemS:
    case Op::MinS:
    case Op::MaxS:
    case Op::Abs:
    case Op::MulHiS:
    case Op::LtS:
    case Op::LeS:
    case Op::GtS:
    case Op::GeS:
    case Op::ToFloatS: return true;
    default: return false;
  }
}

}  // namespace

// Whether the exact sum or difference does not fit: its sign is not the one the operands' signs ask for.
Value Expander::overflow(Op op, const Operands& v, Value wrapped, Type type) {
  bool adds = op == Op::AddOverS || op == Op::AddOverU;
  if (op == Op::AddOverU) return make(Op::LtU, {wrapped, v[0]});
  if (op == Op::SubOverU) return make(Op::LtU, {v[0], v[1]});
  Value first = make(Op::Xor, {v[0], adds ? wrapped : v[1]});
  Value second = make(Op::Xor, {adds ? v[1] : v[0], wrapped});
  return make(Op::LtS, {make(Op::And, {first, second}), number(type, 0)});
}

Value Expander::saturating(Op op, const Operands& v, Type type) {
  bool adds = op == Op::AddSatS || op == Op::AddSatU, is_signed = op == Op::AddSatS || op == Op::SubSatS;
  Op checked = is_signed ? (adds ? Op::AddOverS : Op::SubOverS) : (adds ? Op::AddOverU : Op::SubOverU);
  Value wrapped = make(adds ? Op::Add : Op::Sub, {v[0], v[1]});
  Value over = overflow(checked, v, wrapped, type);
  Value limit = number(type, adds ? ~uint64_t(0) : 0);
  if (is_signed) {  // the end of the range on the first operand's side
    Value sign = make(Op::ShrS, {v[0], number(type, type.bits() - 1)});
    limit = make(Op::Xor, {sign, number(type, static_cast<uint64_t>(mask_of(type.bits() - 1)))});
  }
  return make(Op::Pick, {over, limit, wrapped});
}

std::pair<Value, Value> Expander::make_pair(Op op, const Operands& v) {
  Type type = f_.type(v[0]);
  switch (op) {
    case Op::AddCarry:
    case Op::SubBorrow: {  // in two steps, of which at most one carries
      bool adds = op == Op::AddCarry;
      Value first = make(adds ? Op::Add : Op::Sub, {v[0], v[1]});
      Value in = make(Op::WidenU, {v[2]}, type);
      Value second = make(adds ? Op::Add : Op::Sub, {first, in});
      Value a = adds ? make(Op::LtU, {first, v[0]}) : make(Op::LtU, {v[0], v[1]});
      Value b = adds ? make(Op::LtU, {second, first}) : make(Op::LtU, {first, in});
      return {second, make(Op::Or, {a, b})};
    }
    case Op::MulWideS: return {make(Op::Mul, v), make(Op::MulHiS, v)};
    case Op::MulWideU: return {make(Op::Mul, v), make(Op::MulHiU, v)};
    case Op::MulOverU: return {make(Op::Mul, v), make(Op::Ne, {make(Op::MulHiU, v), number(type, 0)})};
    case Op::MulOverS: {
      Value low = make(Op::Mul, v);
      Value sign = make(Op::ShrS, {low, number(type, type.bits() - 1)});
      return {low, make(Op::Ne, {make(Op::MulHiS, v), sign})};
    }
    default: {
      Value wrapped = make(op == Op::AddOverS || op == Op::AddOverU ? Op::Add : Op::Sub, v);
      return {wrapped, overflow(op, v, wrapped, type)};
    }
  }
}

Value Expander::make(Op op, std::vector<Value> v, Type result) {
  Type type = f_.type(v.back());
  if (!result.exists()) result = info(op).result == ResultRule::Truth ? Type::boolean() : type;
  bool not_of_bool = op == Op::Not && type.is_bool();
  if (!not_of_bool && coverage_.covers(op, type, result)) return pen_.make(op, v, result);
  return expand(op, v, type, result);
}

Value Expander::expand(Op op, const Operands& v, Type type, Type result) {
  switch (op) {
    case Op::Not:
      if (type.is_bool()) return make(Op::Xor, {v[0], number(type, 1)});
      break;
    case Op::Eq:
    case Op::Ne:
      if (type.is_bool()) return bools_compared(op, v);
      break;
    case Op::ToIntS:
    case Op::ToIntU: return to_int(op, v[0], type, result);
    case Op::ToFloatU: return to_float_unsigned(v[0], type, result);
    case Op::Min:
    case Op::Max: return float_extreme(op, v, type);
    case Op::CopySign: return float_by_bits(op, v, type);
    case Op::Neg:
    case Op::Abs:
      if (type.is_float()) return float_by_bits(op, v, type);
      break;
    case Op::AddSatS:
    case Op::AddSatU:
    case Op::SubSatS:
    case Op::SubSatU: return saturating(op, v, type);
    case Op::Fma: return helper("porphyry_fma_f", v, type);
    case Op::Rem: return helper("porphyry_rem_f", v, type);
    case Op::Floor:
    case Op::Ceil:
    case Op::Round:
    case Op::Trunc: return whole_number(op, v[0], type);
    case Op::WidenS:
    case Op::WidenU: {  // in two steps
      Type half = result.bits() > 32 ? i32 : Type::integer(16);
      return convert(op, result, convert(op, half, v[0]));
    }
    default: break;
  }
  if (type.is_integer() && type.bits() < 32) return narrow(op, v, type, result);
  switch (op) {
    case Op::MulHiS:
    case Op::MulHiU: return high_product(op, v, type);
    case Op::RotL:
    case Op::RotR: return rotate(op, v, type);
    case Op::Popcount: return popcount(v[0], type);
    case Op::Ctz: {  // the ones below the lowest one
      Value below = make(Op::And, {make(Op::Not, {v[0]}), make(Op::Sub, {v[0], number(type, 1)})});
      return make(Op::Popcount, {below});
    }
    case Op::Clz: {  // smear the highest one down; what is not smeared leads
      Value x = v[0];
      for (unsigned reach = 1; reach < type.bits(); reach *= 2)
        x = make(Op::Or, {x, make(Op::ShrU, {x, number(type, reach)})});
      return make(Op::Popcount, {make(Op::Not, {x})});
    }
    case Op::ReverseBits: return reverse(v[0], type, 1);
    case Op::ReverseBytes: return reverse(v[0], type, 8);
    default: break;
  }
  return uncovered(op, v, result);
}

// It stays as it is: selection says that no rule covers it.
Value Expander::uncovered(Op op, const Operands& v, Type result) {
  return f_.result(pen_.put({.op = op, .operands = v, .results = {&result, 1}}));
}

Value Expander::bools_compared(Op op, const Operands& v) {
  Value differ = make(Op::Xor, v);
  return op == Op::Ne ? differ : make(Op::Not, {differ});
}

// i8 and i16 in 32 bits.
Value Expander::narrow(Op op, const Operands& v, Type type, Type result) {
  unsigned width = type.bits();
  if (op == Op::DivS) return divide_narrow(v, type);
  if (op == Op::RotL || op == Op::RotR) return rotate(op, v, type);
  Operands wide;
  for (Value x : v) wide.push_back(convert(is_signed(op) ? Op::WidenS : Op::WidenU, i32, x));
  switch (op) {
    case Op::ToFloatS: return make(op, wide, result);
    case Op::Shl:
    case Op::ShrS:
    case Op::ShrU: wide[1] = make(Op::And, {convert(Op::WidenU, i32, v[1]), number(i32, width - 1)}); break;
    case Op::MulHiS:
    case Op::MulHiU: {
      Value high = make(op == Op::MulHiS ? Op::ShrS : Op::ShrU, {make(Op::Mul, wide), number(i32, width)});
      return convert(Op::Narrow, type, high);
    }
    case Op::Clz:
      return convert(Op::Narrow, type, make(Op::Sub, {make(Op::Clz, wide), number(i32, 32 - width)}));
    case Op::Ctz: wide[0] = make(Op::Or, {wide[0], number(i32, uint64_t(1) << width)}); break;
    case Op::ReverseBits:
    case Op::ReverseBytes:
      return convert(Op::Narrow, type, make(Op::ShrU, {make(op, wide), number(i32, 32 - width)}));
    default: break;
  }
  Value r = make(op, wide, info(op).result == ResultRule::Truth ? result : i32);
  return f_.type(r) == result ? r : convert(Op::Narrow, result, r);
}

// (a << s) / b traps just where a / b must, on 0 and on least / -1, when a's sign bit is the wide one's.
// Dividing the quotient by 2^s, toward zero, gives a / b.
Value Expander::divide_narrow(const Operands& v, Type type) {
  unsigned shift = 32 - type.bits();
  Value a = make(Op::Shl, {convert(Op::WidenU, i32, v[0]), number(i32, shift)});
  Value q = make(Op::DivS, {a, convert(Op::WidenS, i32, v[1])});
  Value round_up = make(Op::ShrU, {make(Op::ShrS, {q, number(i32, 31)}), number(i32, 32 - shift)});
  return convert(Op::Narrow, type, make(Op::ShrS, {make(Op::Add, {q, round_up}), number(i32, shift)}));
}

Value Expander::rotate(Op op, const Operands& v, Type type) {
  Value mask = number(type, type.bits() - 1);
  Value n = make(Op::And, {v[1], mask}), back = make(Op::And, {make(Op::Neg, {n}), mask});
  Value left = op == Op::RotL ? n : back, right = op == Op::RotL ? back : n;
  return make(Op::Or, {make(Op::Shl, {v[0], left}), make(Op::ShrU, {v[0], right})});
}

Value Expander::float_by_bits(Op op, const Operands& v, Type type) {
  Type b = bits_type(type);
  uint64_t sign = uint64_t(1) << (type.bits() - 1), rest = sign - 1;
  Value x = make(Op::Bits, {v[0]}, b);
  if (op == Op::Neg)
    x = make(Op::Xor, {x, number(b, sign)});
  else
    x = make(Op::And, {x, number(b, rest)});
  if (op == Op::CopySign) x = make(Op::Or, {x, make(Op::And, {make(Op::Bits, {v[1]}, b), number(b, sign)})});
  return make(Op::Bits, {x}, type);
}

// Ordered and different: by comparison. Equal: only zeros may differ in bits, and `or` (min) or `and` (max)
// of the bits gets their order right. Unordered: the sum is a quiet NaN.
Value Expander::float_extreme(Op op, const Operands& v, Type type) {
  Type b = bits_type(type);
  bool least = op == Op::Min;
  Value first = make(least ? Op::Lt : Op::Gt, {v[0], v[1]}),
        second = make(least ? Op::Gt : Op::Lt, {v[0], v[1]});
  Value zeros =
      make(Op::Bits, {make(least ? Op::Or : Op::And, {make(Op::Bits, {v[0]}, b), make(Op::Bits, {v[1]}, b)})},
           type);
  Value rest = make(Op::Pick, {make(Op::Eq, {v[0], v[1]}), zeros, make(Op::Add, {v[0], v[1]})});
  return make(Op::Pick, {first, v[0], make(Op::Pick, {second, v[1], rest})});
}

// Saturating to a signed word first, then to the range that is wanted.
Value Expander::to_int(Op op, Value v, Type from, Type to) {
  bool is_signed_op = op == Op::ToIntS;
  const Type word = coverage_.word();
  if (to == word && !is_signed_op) {
    const unsigned top = word.bits() - 1;
    Value half = pen_.real(from, std::ldexp(1.0, static_cast<int>(top)));
    Value low = make(Op::MaxS, {make(Op::ToIntS, {v}, word), number(word, 0)});
    Value high =
        make(Op::Xor, {make(Op::ToIntS, {make(Op::Sub, {v, half})}, word), number(word, uint64_t(1) << top)});
    return make(Op::Pick, {make(Op::Ge, {v, half}), high, low});
  }
  if (to == word) return uncovered(op, {v}, to);
  const Type enough = to.bits() < 32 && coverage_.covers(Op::ToIntS, from, i32) ? i32 : word;
  Value wide = make(Op::ToIntS, {v}, enough);
  uint64_t greatest = static_cast<uint64_t>(mask_of(is_signed_op ? to.bits() - 1 : to.bits()));
  uint64_t least = is_signed_op ? ~greatest : 0;
  return convert(Op::Narrow, to,
                 make(Op::MinS, {make(Op::MaxS, {wide, number(enough, least)}), number(enough, greatest)}));
}

// Words below the half of their range as signed numbers; above, half of it (the lost bit kept sticky, for
// rounding) and twice that.
Value Expander::to_float_unsigned(Value v, Type from, Type to) {
  if (from.bits() < 32) return make(Op::ToFloatS, {convert(Op::WidenU, i32, v)}, to);
  if (from != coverage_.word()) return make(Op::ToFloatS, {convert(Op::WidenU, coverage_.word(), v)}, to);
  Value half = make(Op::Or, {make(Op::ShrU, {v, number(from, 1)}), make(Op::And, {v, number(from, 1)})});
  Value big = make(Op::ToFloatS, {half}, to);
  return make(Op::Pick,
              {make(Op::LtS, {v, number(from, 0)}), make(Op::Add, {big, big}), make(Op::ToFloatS, {v}, to)});
}

// Of less than a word by a product of one. Of a word unsigned by halves, of which no sum overflows; signed
// products take what the signs gave too much from that.
Value Expander::high_product(Op op, const Operands& v, Type type) {
  bool s = op == Op::MulHiS;
  if (type == coverage_.word() && s) {
    auto if_negative = [&](Value a, Value b) {
      return make(Op::And, {make(Op::ShrS, {a, number(type, type.bits() - 1)}), b});
    };
    Value high = make(Op::Sub, {make(Op::MulHiU, v), if_negative(v[0], v[1])});
    return make(Op::Sub, {high, if_negative(v[1], v[0])});
  }
  if (type == coverage_.word()) {
    const unsigned half = type.bits() / 2;
    auto low = [&](Value x) {
      return make(Op::And, {x, number(type, static_cast<uint64_t>(mask_of(half)))});
    };
    auto high = [&](Value x) { return make(Op::ShrU, {x, number(type, half)}); };
    Value a0 = low(v[0]), a1 = high(v[0]), b0 = low(v[1]), b1 = high(v[1]);
    Value inner = make(Op::Add, {make(Op::Mul, {a1, b0}), high(make(Op::Mul, {a0, b0}))});
    Value other = make(Op::Add, {make(Op::Mul, {a0, b1}), low(inner)});
    return make(Op::Add, {make(Op::Add, {make(Op::Mul, {a1, b1}), high(inner)}), high(other)});
  }
  Op widen = s ? Op::WidenS : Op::WidenU;
  Value product = make(Op::Mul, {convert(widen, i64, v[0]), convert(widen, i64, v[1])});
  return convert(Op::Narrow, type, make(Op::ShrU, {product, number(i64, 32)}));
}

// Sums of ever wider fields; H. Warren, "Hacker's Delight", chapter 5.
Value Expander::popcount(Value v, Type type) {
  unsigned width = type.bits();
  Value x = v;
  for (unsigned run = 1; run < width; run *= 2) {
    Value m = number(type, stripes(run, width));
    x = make(Op::Add, {make(Op::And, {x, m}), make(Op::And, {make(Op::ShrU, {x, number(type, run)}), m})});
  }
  return x;
}

// Neighbours of 1, 2, 4, … bits change places.
Value Expander::reverse(Value v, Type type, unsigned smallest) {
  unsigned width = type.bits();
  Value x = v;
  for (unsigned run = smallest; run < width; run *= 2) {
    if (run == 8 && coverage_.covers(Op::ReverseBytes, type, type)) return make(Op::ReverseBytes, {x});
    Value m = number(type, stripes(run, width)), n = number(type, run);
    x = make(Op::Or, {make(Op::Shl, {make(Op::And, {x, m}), n}), make(Op::And, {make(Op::ShrU, {x, n}), m})});
  }
  return x;
}

// Adding and taking away 2^23 or 2^52, with the sign, leaves the whole number nearest; greater floats are
// whole already. Where that lies on the wrong side, one more step. Taking zero away makes a NaN quiet.
Value Expander::whole_number(Op op, Value v, Type type) {
  Value big = pen_.real(type, type.bits() == 32 ? 0x1p23 : 0x1p52), one = pen_.real(type, 1.0);
  Value x = op == Op::Trunc ? make(Op::Abs, {v}) : v;
  Value with_sign = make(Op::CopySign, {big, x});
  Value near = make(Op::Sub, {make(Op::Add, {x, with_sign}), with_sign});
  if (op == Op::Floor || op == Op::Trunc)
    near = make(Op::Pick, {make(Op::Gt, {near, x}), make(Op::Sub, {near, one}), near});
  if (op == Op::Ceil) near = make(Op::Pick, {make(Op::Lt, {near, x}), make(Op::Add, {near, one}), near});
  Value small = make(Op::Lt, {make(Op::Abs, {v}), big});
  return make(Op::Pick, {small, make(Op::CopySign, {near, v}), make(Op::Sub, {v, pen_.real(type, 0.0)})});
}

Value Expander::helper(const char* name, const Operands& v, Type type) {
  return pen_.call(helpers_[name + std::to_string(type.bits())], v)[0];
}

}  // namespace porphyry::machine
