#include "porphyry/ir/compute.h"

#include <bit>
#include <cmath>
#include <cstring>
#include <limits>
#include <type_traits>

namespace porphyry {
namespace {

// Integers of up to the bits of U, an unsigned machine integer. The 64-bit instance is the fast one.
template <class U>
struct Integers {
  using S = std::conditional_t<sizeof(U) == 8, int64_t, __int128>;
  static constexpr unsigned capacity = sizeof(U) * 8;

  unsigned width;
  U mask;

  explicit Integers(unsigned bits) : width(bits), mask(bits == capacity ? ~U(0) : (U(1) << bits) - 1) {}

  S sign(U v) const { return static_cast<S>(v << (capacity - width)) >> (capacity - width); }
  U least() const { return U(1) << (width - 1); }
  unsigned amount(U v) const { return static_cast<unsigned>(v % width); }

  U ones(U v) const {
    if constexpr (sizeof(U) == 8) {
      return static_cast<U>(std::popcount(v));
    } else {
      return static_cast<U>(std::popcount(static_cast<uint64_t>(v)) +
                            std::popcount(static_cast<uint64_t>(v >> 64)));
    }
  }
  // The bits below the lowest one are as many as the trailing zeros; smearing the highest one downwards
  // turns leading zeros into the zeros that are left.
  U trailing_zeros(U v) const { return v == 0 ? width : ones((v & (U(0) - v)) - 1); }
  U leading_zeros(U v) const {
    for (unsigned reach = 1; reach < capacity; reach *= 2) v |= v >> reach;
    return width - ones(v);
  }
  U reversed(U v, unsigned unit) const {
    U out = 0;
    U piece = (U(1) << unit) - 1;
    for (unsigned i = 0; i < width; i += unit) out |= (v >> i & piece) << (width - unit - i);
    return out;
  }
  U rotated_left(U v, unsigned n) const { return n == 0 ? v : (v << n | v >> (width - n)) & mask; }
  // High half of the product by halves, so that no type of twice the width is needed.
  U high_product(U a, U b) const {
    if constexpr (sizeof(U) == 8) return static_cast<U>(Bits(a) * b >> width) & mask;
    if (width <= 64) return static_cast<U>(Bits(a) * b >> width) & mask;
    U product_high = 0, low = 0;
    for (unsigned i = 0; i < width; ++i) {  // shift and add over (high, low), width bits each
      if (!(b >> i & 1)) continue;
      U low_part = (a << i) & mask, high_part = i == 0 ? 0 : a >> (width - i);
      U sum = (low + low_part) & mask;
      product_high += high_part + (sum < low ? 1 : 0);
      low = sum;
    }
    return product_high & mask;
  }
  // Whether the exact result does not fit. Sums are compared before they wrap around the mask.
  bool add_over_u(U a, U b) const { return ((a + b) & mask) < a; }
  bool add_over_s(U a, U b) const { return ((a ^ ~b) & (a ^ (a + b)) & least()) != 0; }
  bool sub_over_s(U a, U b) const { return ((a ^ b) & (a ^ (a - b)) & least()) != 0; }
  bool mul_over_u(U a, U b) const { return high_product(a, b) != 0; }
  bool mul_over_s(U a, U b) const {
    U low = (a * b) & mask;
    return high_product_signed(a, b) != (low & least() ? mask : 0);
  }
  U nearest(U a) const { return a & least() ? least() : mask >> 1; }  // the end of the range on a's side

  U high_product_signed(U a, U b) const {
    U high = high_product(a, b);
    if (sign(a) < 0) high -= b;
    if (sign(b) < 0) high -= a;
    return high & mask;
  }
};

template <class U>
Computed integer_operation(Op op, unsigned width, U a, U b) {
  using I = Integers<U>;
  I in(width);
  auto give = [&](U v) { return Computed{static_cast<Bits>(v & in.mask), false}; };
  auto truth = [](bool v) { return Computed{v ? Bits(1) : Bits(0), false}; };
  constexpr Computed trap{0, true};
  switch (op) {
    case Op::Add: return give(a + b);
    case Op::Sub: return give(a - b);
    case Op::Mul: return give(a * b);
    case Op::AddSatU: return give(in.add_over_u(a, b) ? in.mask : a + b);
    case Op::SubSatU: return give(a < b ? 0 : a - b);
    case Op::AddSatS: return give(in.add_over_s(a, b) ? in.nearest(a) : a + b);
    case Op::SubSatS: return give(in.sub_over_s(a, b) ? in.nearest(a) : a - b);
    case Op::DivU: return b == 0 ? trap : give(a / b);
    case Op::RemU: return b == 0 ? trap : give(a % b);
    case Op::DivS:
      if (b == 0 || (a == in.least() && b == in.mask)) return trap;
      return give(static_cast<U>(in.sign(a) / in.sign(b)));
    case Op::RemS:
      if (b == 0) return trap;
      return b == in.mask ? give(0) : give(static_cast<U>(in.sign(a) % in.sign(b)));
    case Op::Neg: return give(U(0) - a);
    case Op::Abs: return give(in.sign(a) < 0 ? U(0) - a : a);
    case Op::MinS: return give(in.sign(a) < in.sign(b) ? a : b);
    case Op::MaxS: return give(in.sign(a) > in.sign(b) ? a : b);
    case Op::MinU: return give(a < b ? a : b);
    case Op::MaxU: return give(a > b ? a : b);
    case Op::MulHiU: return give(in.high_product(a, b));
    case Op::MulHiS: return give(in.high_product_signed(a, b));
    case Op::And: return give(a & b);
    case Op::Or: return give(a | b);
    case Op::Xor: return give(a ^ b);
    case Op::Not: return give(~a);
    case Op::Shl: return give(a << in.amount(b));
    case Op::ShrU: return give(a >> in.amount(b));
    case Op::ShrS: return give(static_cast<U>(in.sign(a) >> in.amount(b)));
    case Op::RotL: return give(in.rotated_left(a, in.amount(b)));
    case Op::RotR: return give(in.rotated_left(a, (width - in.amount(b)) % width));
    case Op::Clz: return give(in.leading_zeros(a));
    case Op::Ctz: return give(in.trailing_zeros(a));
    case Op::Popcount: return give(in.ones(a));
    case Op::ReverseBytes: return give(in.reversed(a, 8));
    case Op::ReverseBits: return give(in.reversed(a, 1));
    case Op::Eq: return truth(a == b);
    case Op::Ne: return truth(a != b);
    case Op::LtS: return truth(in.sign(a) < in.sign(b));
    case Op::LeS: return truth(in.sign(a) <= in.sign(b));
    case Op::GtS: return truth(in.sign(a) > in.sign(b));
    case Op::GeS: return truth(in.sign(a) >= in.sign(b));
    case Op::LtU: return truth(a < b);
    case Op::LeU: return truth(a <= b);
    case Op::GtU: return truth(a > b);
    case Op::GeU: return truth(a >= b);
    default: return trap;
  }
}

// Operations with two results.
template <class U>
Computed integer_pair(Op op, unsigned width, U a, U b, bool carry) {
  Integers<U> in(width);
  auto give = [&](U first, U second) { return Computed{static_cast<Bits>(first & in.mask), false, second}; };
  switch (op) {
    case Op::AddCarry: {
      U sum = (a + b) & in.mask;
      return give(sum + carry, sum < a || (carry && sum == in.mask));
    }
    case Op::SubBorrow: return give(a - b - carry, a < b || (carry && a == b));
    case Op::MulWideU: return give(a * b, in.high_product(a, b));
    case Op::MulWideS: return give(a * b, in.high_product_signed(a, b));
    case Op::AddOverS: return give(a + b, in.add_over_s(a, b));
    case Op::AddOverU: return give(a + b, in.add_over_u(a, b));
    case Op::SubOverS: return give(a - b, in.sub_over_s(a, b));
    case Op::SubOverU: return give(a - b, a < b);
    case Op::MulOverS: return give(a * b, in.mul_over_s(a, b));
    case Op::MulOverU: return give(a * b, in.mul_over_u(a, b));
    default: return {0, true};
  }
}

template <class F>
using BitsOf = std::conditional_t<sizeof(F) == 4, uint32_t, uint64_t>;

template <class F>
F to_value(Bits bits) {
  return std::bit_cast<F>(static_cast<BitsOf<F>>(bits));
}
template <class F>
Bits to_bits(F value) {
  return std::bit_cast<BitsOf<F>>(value);
}
// What arithmetic gives: a NaN is quiet, which the host's own functions do not all see to.
template <class F>
Bits arithmetic_bits(F value) {
  constexpr Bits quiet = Bits(1) << (std::numeric_limits<F>::digits - 2);
  return std::isnan(value) ? to_bits(value) | quiet : to_bits(value);
}

// IEEE 754-2019 minimum and maximum: NaN wins, and zeros are ordered by sign.
template <class F>
F extreme(F a, F b, bool want_less) {
  if (std::isnan(a) || std::isnan(b)) return std::numeric_limits<F>::quiet_NaN();
  if (a == b) return std::signbit(a) == want_less ? a : b;
  return (a < b) == want_less ? a : b;
}

template <class F>
Computed float_operation(Op op, std::span<const Bits> arguments) {
  constexpr Bits sign = Bits(1) << (sizeof(F) * 8 - 1);
  Bits bits_a = arguments[0], bits_b = arguments.size() > 1 ? arguments[1] : 0;
  F a = to_value<F>(bits_a), b = to_value<F>(bits_b);
  auto give = [](F v) { return Computed{arithmetic_bits<F>(v), false}; };
  auto truth = [](bool v) { return Computed{v ? Bits(1) : Bits(0), false}; };
  switch (op) {
    case Op::Add: return give(a + b);
    case Op::Sub: return give(a - b);
    case Op::Mul: return give(a * b);
    case Op::Div: return give(a / b);
    case Op::Rem: return give(std::fmod(a, b));
    case Op::Min: return give(extreme(a, b, true));
    case Op::Max: return give(extreme(a, b, false));
    case Op::Sqrt: return give(std::sqrt(a));
    case Op::Fma: return give(std::fma(a, b, to_value<F>(arguments[2])));
    case Op::Floor: return give(std::floor(a));
    case Op::Ceil: return give(std::ceil(a));
    case Op::Round: return give(std::nearbyint(a));
    case Op::Trunc: return give(std::trunc(a));
    case Op::Neg: return {bits_a ^ sign, false};  // sign operations keep all other bits, NaN or not
    case Op::Abs: return {bits_a & ~sign & mask_of(sizeof(F) * 8), false};
    case Op::CopySign: return {(bits_a & ~sign) | (bits_b & sign), false};
    case Op::Eq: return truth(a == b);
    case Op::Ne: return truth(a != b);
    case Op::Lt: return truth(a < b);
    case Op::Le: return truth(a <= b);
    case Op::Gt: return truth(a > b);
    case Op::Ge: return truth(a >= b);
    case Op::Unordered: return truth(std::isnan(a) || std::isnan(b));
    default: return {0, true};
  }
}

template <class F>
Bits integer_of(F value, unsigned width, bool is_signed) {
  if (std::isnan(value)) return 0;
  Bits greatest = mask_of(is_signed ? width - 1 : width);
  Bits least = is_signed ? (Bits(1) << (width - 1)) : 0;
  F limit = std::ldexp(F(1), static_cast<int>(is_signed ? width - 1 : width));
  if (value >= limit) return greatest;
  if (is_signed ? value < -limit : value <= F(-1)) return least;
  return is_signed ? static_cast<Bits>(static_cast<__int128>(value)) & mask_of(width)
                   : static_cast<Bits>(value);
}

template <class F>
Bits float_of(Bits bits, unsigned width, bool is_signed) {
  if (is_signed) return to_bits<F>(static_cast<F>(static_cast<__int128>(sign_extended(bits, width))));
  return to_bits<F>(static_cast<F>(bits));
}

Bits converted(Op op, Type from, Type to, Bits v) {
  switch (op) {
    case Op::WidenS: return sign_extended(v, from.bits()) & mask_of(to.bits());
    case Op::Widen: return arithmetic_bits(static_cast<double>(to_value<float>(v)));
    case Op::Narrow:
      if (from.is_float()) return arithmetic_bits(static_cast<float>(to_value<double>(v)));
      return v & mask_of(to.bits());
    case Op::ToFloatS:
    case Op::ToFloatU: {
      bool s = op == Op::ToFloatS;
      return to.bits() == 32 ? float_of<float>(v, from.bits(), s) : float_of<double>(v, from.bits(), s);
    }
    case Op::ToIntS:
    case Op::ToIntU: {
      bool s = op == Op::ToIntS;
      return from.bits() == 32 ? integer_of(to_value<float>(v), to.bits(), s)
                               : integer_of(to_value<double>(v), to.bits(), s);
    }
    default: return v;  // widen.u and bits keep the bits as they are
  }
}

}  // namespace

Computed compute(Op op, Type operand, Type result, std::span<const Bits> arguments) {
  if (op == Op::Pick) return {arguments[0] & 1 ? arguments[1] : arguments[2], false};
  if (info(op).layout == Layout::Convert) return {converted(op, operand, result, arguments[0]), false};
  if (operand.is_float())
    return operand.bits() == 32 ? float_operation<float>(op, arguments)
                                : float_operation<double>(op, arguments);
  Bits b = arguments.size() > 1 ? arguments[1] : 0;
  if (info(op).result_count() == 2) {
    bool carry = arguments.size() > 2 && (arguments[2] & 1);
    if (operand.bits() > 64) return integer_pair<Bits>(op, operand.bits(), arguments[0], b, carry);
    return integer_pair<uint64_t>(op, operand.bits(), static_cast<uint64_t>(arguments[0]),
                                  static_cast<uint64_t>(b), carry);
  }
  if (operand.bits() > 64) return integer_operation<Bits>(op, operand.bits(), arguments[0], b);
  return integer_operation<uint64_t>(op, operand.bits(), static_cast<uint64_t>(arguments[0]),
                                     static_cast<uint64_t>(b));
}

}  // namespace porphyry
