// The operations of the language as terms of a solver, written down a second time and from the language's
// page only.
//
// A value is a bit vector of its type's bits, lanes side by side, lane 0 lowest. Floats compare as the
// standard says; what else is done to them is left to functions of which the solver knows nothing but that
// equal arguments give equal results, so a proof holds whatever they compute.
#pragma once

#include <z3++.h>

#include <algorithm>
#include <optional>
#include <string>
#include <vector>

#include "porphyry/ir/operations.h"

namespace porphyry::prove {

class Algebra {
 public:
  using Term = z3::expr;
  using Terms = std::vector<z3::expr>;

  explicit Algebra(z3::context& context) : c_(context) {}

  // Whether a term so far used a function of which nothing is known: what then cannot be shown may still be
  // right.
  bool is_vague() const { return vague_; }
  // What is known of such functions all the same: sums have no order, a zero adds nothing, and no number
  // stays no number.
  const Terms& facts() const { return facts_; }

  Term number(unsigned bits, uint64_t value) const {
    if (bits <= 64) return c_.bv_val(value, bits);
    return zero_extend(c_.bv_val(value, 64), bits);
  }
  Term fresh(const std::string& name, unsigned bits) {
    return c_.bv_const((name + "!" + std::to_string(count_++)).c_str(), bits);
  }
  static unsigned bits(const Term& t) { return t.get_sort().bv_size(); }
  // The low bits, or zeros (copies of the sign) above.
  static Term zero_extend(const Term& t, unsigned to) {
    return bits(t) == to  ? t
           : bits(t) > to ? t.extract(to - 1, 0)
                          : Term(t.ctx(), Z3_mk_zero_ext(t.ctx(), to - bits(t), t));
  }
  static Term sign_extend(const Term& t, unsigned to) {
    return bits(t) == to  ? t
           : bits(t) > to ? t.extract(to - 1, 0)
                          : Term(t.ctx(), Z3_mk_sign_ext(t.ctx(), to - bits(t), t));
  }
  static Term lane_of(const Term& t, unsigned lane, unsigned bits) {
    return t.extract(lane * bits + bits - 1, lane * bits);
  }
  Term side_by_side(const Terms& lanes) const {
    Term out = lanes[0];
    for (size_t k = 1; k < lanes.size(); ++k) out = z3::concat(lanes[k], out);
    return out;
  }
  Term repeated(const Term& one, unsigned lanes) const { return side_by_side(Terms(lanes, one)); }
  Term truth(const Term& condition, unsigned bits = 1) const {
    return z3::ite(condition, number(bits, 1), number(bits, 0));
  }
  static Term is_true(const Term& t) { return t.extract(0, 0) == t.ctx().bv_val(1, 1); }

  // Floats are the same when both are no number, too.
  Term same(const Term& a, const Term& b, Type t) {
    Term out = c_.bool_val(true);
    for (unsigned k = 0; k < t.lanes(); ++k) {
      Term x = lane_of(a, k, t.bits()), y = lane_of(b, k, t.bits());
      out = out && (t.is_float() ? x == y || (is_nan(x) && is_nan(y)) : x == y);
    }
    return out;
  }

  // `traps` grows by when the operation does. Nothing for operations that are not told here.
  std::optional<Term> apply(Op op, const std::vector<Type>& types, Type result, const Terms& in,
                            Term& traps) {
    bool lanes =
        result.has_lanes() || std::any_of(types.begin(), types.end(), [](Type t) { return t.has_lanes(); });
    if (!lanes) return scalar(op, types.back(), result, in, traps);
    if (info(op).layout == Layout::Splat) return repeated(in[0], result.lanes());
    if (op == Op::Bits) return in[0];
    if (op == Op::Lane) return at_lane(in[0], types[0], in[1]);
    if (op == Op::Put) return with_lane(in[0], types[0], in[1], in[2]);
    if (op == Op::Interleave) return interleaved(in, types[0]);
    if (op == Op::Any) return truth(in[0] != number(bits(in[0]), 0));
    if (op == Op::All) return truth(~in[0] == number(bits(in[0]), 0));
    if (info(op).layout == Layout::Reduce) return reduced(op, types[0], in[0], traps);
    if (info(op).layout == Layout::Shuffle) return std::nullopt;
    Terms out;
    for (unsigned k = 0; k < result.lanes(); ++k) {
      Terms part;
      std::vector<Type> elements;
      for (size_t a = 0; a < in.size(); ++a) {
        part.push_back(types[a].has_lanes() ? lane_of(in[a], k, types[a].bits()) : in[a]);
        elements.push_back(types[a].element());
      }
      auto one = scalar(op, elements.back(), result.element(), part, traps);
      if (!one) return std::nullopt;
      out.push_back(*one);
    }
    return side_by_side(out);
  }

  // Both results of an operation on integers that has two.
  Terms two(Op op, const Terms& in) const {
    unsigned w = bits(in[0]);
    auto s = [&](unsigned k) { return sign_extend(in[k], 2 * w + 2); };
    auto u = [&](unsigned k) { return zero_extend(in[k], 2 * w + 2); };
    auto low = [&](const Term& x) { return x.extract(w - 1, 0); };
    auto over_s = [&](const Term& x) { return truth(sign_extend(low(x), 2 * w + 2) != x); };
    auto over_u = [&](const Term& x) { return truth(zero_extend(low(x), 2 * w + 2) != x); };
    auto both = [&](const Term& x, bool is_signed) {
      return Terms{low(x), is_signed ? over_s(x) : over_u(x)};
    };
    switch (op) {
      case Op::AddCarry: return both(u(0) + u(1) + u(2), false);
      case Op::SubBorrow: return both(u(0) - u(1) - u(2), false);
      case Op::MulWideS: return {low(s(0) * s(1)), (s(0) * s(1)).extract(2 * w - 1, w)};
      case Op::MulWideU: return {low(u(0) * u(1)), (u(0) * u(1)).extract(2 * w - 1, w)};
      case Op::AddOverS: return both(s(0) + s(1), true);
      case Op::AddOverU: return both(u(0) + u(1), false);
      case Op::SubOverS: return both(s(0) - s(1), true);
      case Op::SubOverU: return both(u(0) - u(1), false);
      case Op::MulOverS: return both(s(0) * s(1), true);
      default: return both(u(0) * u(1), false);
    }
  }

  Term shuffled(const Term& a, const Term& b, Type t, const std::vector<uint16_t>& lanes) const {
    Terms out;
    for (uint16_t lane : lanes)
      out.push_back(lane < t.lanes() ? lane_of(a, lane, t.bits()) : lane_of(b, lane - t.lanes(), t.bits()));
    return side_by_side(out);
  }

 private:
  // One lane after the other, as the operation's meaning has it.
  std::optional<Term> reduced(Op op, Type t, const Term& v, Term& traps) {
    std::optional<Term> out = lane_of(v, 0, t.bits());
    for (unsigned k = 1; out && k < t.lanes(); ++k)
      out = scalar(joining_op(op), t.element(), t.element(), {*out, lane_of(v, k, t.bits())}, traps);
    return out;
  }
  Term at_lane(const Term& v, Type t, const Term& index) const {
    Term out = lane_of(v, 0, t.bits()), at = modulo(index, t.lanes());
    for (unsigned k = 1; k < t.lanes(); ++k)
      out = z3::ite(at == number(bits(at), k), lane_of(v, k, t.bits()), out);
    return out;
  }
  Term with_lane(const Term& v, Type t, const Term& index, const Term& x) const {
    Terms out;
    Term at = modulo(index, t.lanes());
    for (unsigned k = 0; k < t.lanes(); ++k)
      out.push_back(z3::ite(at == number(bits(at), k), x, lane_of(v, k, t.bits())));
    return side_by_side(out);
  }
  Term interleaved(const Terms& in, Type t) const {
    Terms out;
    for (unsigned k = 0; k < t.lanes(); ++k)
      out.push_back(lane_of(in[0], k, t.bits())), out.push_back(lane_of(in[1], k, t.bits()));
    return side_by_side(out);
  }

  Term modulo(const Term& v, unsigned by) const {
    return (by & (by - 1)) == 0 ? v & number(bits(v), by - 1) : z3::urem(v, number(bits(v), by));
  }

  std::optional<Term> scalar(Op op, Type operand, Type result, const Terms& in, Term& traps) {
    if (op == Op::Pick) return z3::ite(is_true(in[0]), in[1], in[2]);
    if (info(op).layout == Layout::Convert) return converted(op, operand, result, in[0]);
    if (operand.is_float()) return of_floats(op, operand, result, in);
    if (info(op).result == ResultRule::Truth) return compared(op, in[0], in[1]);
    if (info(op).may_trap()) return divided(op, in[0], in[1], traps);
    if (auto out = of_bits(op, in)) return out;
    return of_numbers(op, in);
  }

  std::optional<Term> converted(Op op, Type from, Type to, const Term& v) {
    unsigned width = to.bits();
    if (op == Op::Bits) return v;
    if (!from.is_float() && !to.is_float()) {
      if (op == Op::Narrow || op == Op::WidenU) return zero_extend(v, width);
      if (op == Op::WidenS) return sign_extend(v, width);
    }
    return unknown(op, from, to, {v});
  }

  std::optional<Term> compared(Op op, const Term& a, const Term& b) const {
    switch (op) {
      case Op::Eq: return truth(a == b);
      case Op::Ne: return truth(a != b);
      case Op::LtS: return truth(z3::slt(a, b));
      case Op::LeS: return truth(z3::sle(a, b));
      case Op::GtS: return truth(z3::sgt(a, b));
      case Op::GeS: return truth(z3::sge(a, b));
      case Op::LtU: return truth(z3::ult(a, b));
      case Op::LeU: return truth(z3::ule(a, b));
      case Op::GtU: return truth(z3::ugt(a, b));
      case Op::GeU: return truth(z3::uge(a, b));
      default: return std::nullopt;
    }
  }

  std::optional<Term> divided(Op op, const Term& a, const Term& b, Term& traps) const {
    unsigned width = bits(a);
    Term zero = number(width, 0), least = z3::shl(number(width, 1), number(width, width - 1));
    Term lost = a == least && b == ~zero;
    traps = traps || b == zero;
    switch (op) {
      case Op::DivS: traps = traps || lost; return a / b;
      case Op::DivU: return z3::udiv(a, b);
      case Op::RemS: return z3::ite(lost, zero, z3::srem(a, b));
      case Op::RemU: return z3::urem(a, b);
      default: return std::nullopt;
    }
  }

  std::optional<Term> of_bits(Op op, const Terms& in) const {
    const Term& a = in[0];
    unsigned width = bits(a);
    Term by = in.size() > 1 ? modulo(in[1], width) : a, rest = modulo(number(width, width) - by, width);
    switch (op) {
      case Op::And: return a & in[1];
      case Op::Or: return a | in[1];
      case Op::Xor: return a ^ in[1];
      case Op::Not: return ~a;
      case Op::Shl: return z3::shl(a, by);
      case Op::ShrU: return z3::lshr(a, by);
      case Op::ShrS: return z3::ashr(a, by);
      case Op::RotL: return z3::shl(a, by) | z3::lshr(a, rest);
      case Op::RotR: return z3::lshr(a, by) | z3::shl(a, rest);
      case Op::Clz: return leading_zeros(a, false);
      case Op::Ctz: return leading_zeros(a, true);
      case Op::Popcount: {
        Term sum = number(width, 0);
        for (unsigned k = 0; k < width; ++k) sum = sum + zero_extend(a.extract(k, k), width);
        return sum;
      }
      case Op::ReverseBytes: return reversed(a, 8);
      case Op::ReverseBits: return reversed(a, 1);
      default: return std::nullopt;
    }
  }
  Term leading_zeros(const Term& a, bool from_below) const {
    unsigned width = bits(a);
    Term out = number(width, width);
    for (unsigned k = width; k-- > 0;) {  // the first one set is asked last
      unsigned at = from_below ? k : width - 1 - k;
      out = z3::ite(a.extract(at, at) == number(1, 1), number(width, k), out);
    }
    return out;
  }
  Term reversed(const Term& a, unsigned step) const {
    Terms out;
    for (unsigned k = bits(a) / step; k-- > 0;) out.push_back(lane_of(a, k, step));
    return side_by_side(out);
  }

  std::optional<Term> of_numbers(Op op, const Terms& in) const {
    const Term& a = in[0];
    const Term& b = in.back();
    unsigned width = bits(a);
    Term zero = number(width, 0);
    auto high = [&](const Term& x, const Term& y) { return (x * y).extract(2 * width - 1, width); };
    switch (op) {
      case Op::Add: return a + b;
      case Op::Sub: return a - b;
      case Op::Mul: return a * b;
      case Op::Neg: return -a;
      case Op::Abs: return z3::ite(z3::slt(a, zero), -a, a);
      case Op::MinS: return z3::ite(z3::slt(a, b), a, b);
      case Op::MinU: return z3::ite(z3::ult(a, b), a, b);
      case Op::MaxS: return z3::ite(z3::sgt(a, b), a, b);
      case Op::MaxU: return z3::ite(z3::ugt(a, b), a, b);
      case Op::MulHiS: return high(sign_extend(a, 2 * width), sign_extend(b, 2 * width));
      case Op::MulHiU: return high(zero_extend(a, 2 * width), zero_extend(b, 2 * width));
      case Op::AddSatS:
      case Op::SubSatS: return saturated_signed(op == Op::AddSatS, a, b);
      case Op::AddSatU: return z3::ite(z3::ult(a + b, a), ~zero, a + b);
      case Op::SubSatU: return z3::ite(z3::ult(a, b), zero, a - b);
      default: return std::nullopt;
    }
  }
  Term saturated_signed(bool adds, const Term& a, const Term& b) const {
    unsigned width = bits(a);
    Term x = sign_extend(a, width + 1), y = sign_extend(b, width + 1), wide = adds ? x + y : x - y;
    Term least = sign_extend(z3::shl(number(width, 1), number(width, width - 1)), width + 1);
    Term out = z3::ite(z3::slt(wide, least), least, z3::ite(z3::sgt(wide, ~least), ~least, wide));
    return out.extract(width - 1, 0);
  }

  // ---- floats ---------------------------------------------------------------------------------------------

  Term real(const Term& bits_of) const {
    z3::sort s = bits(bits_of) == 32 ? c_.fpa_sort<32>() : c_.fpa_sort<64>();
    return Term(c_, Z3_mk_fpa_to_fp_bv(c_, bits_of, s));
  }
  Term is_nan(const Term& v) const { return Term(c_, Z3_mk_fpa_is_nan(c_, real(v))); }
  Term below(const Term& a, const Term& b) const { return Term(c_, Z3_mk_fpa_lt(c_, real(a), real(b))); }
  Term equal(const Term& a, const Term& b) const { return Term(c_, Z3_mk_fpa_eq(c_, real(a), real(b))); }

  // -0 adds nothing to any number, 0 makes a 0 of -0.
  Term sums_with_zeros(const Term& a, const Term& zero, const Term& sum) const {
    const unsigned width = bits(a);
    const Term plus = number(width, 0), minus = z3::shl(number(width, 1), number(width, width - 1));
    const Term with_plus = z3::ite(a == minus, plus, a);
    return is_nan(a) || ((zero != minus || sum == a) && (zero != plus || sum == with_plus));
  }

  std::optional<Term> of_floats(Op op, Type t, Type result, const Terms& in) {
    const Term& a = in[0];
    const Term& b = in.back();
    Term sign = z3::shl(number(t.bits(), 1), number(t.bits(), t.bits() - 1));
    switch (op) {
      case Op::Eq: return truth(equal(a, b));
      case Op::Ne: return truth(!equal(a, b));
      case Op::Lt: return truth(below(a, b));
      case Op::Gt: return truth(below(b, a));
      case Op::Le: return truth(below(a, b) || equal(a, b));
      case Op::Ge: return truth(below(b, a) || equal(a, b));
      case Op::Unordered: return truth(is_nan(a) || is_nan(b));
      case Op::Neg: return a ^ sign;
      case Op::Abs: return a & ~sign;
      case Op::CopySign: return (a & ~sign) | (b & sign);
      case Op::Min:  // of two zeros the negative one
        return z3::ite(is_nan(a), a,
                       z3::ite(is_nan(b), b, z3::ite(below(a, b), a, z3::ite(below(b, a), b, a | b))));
      case Op::Max:
        return z3::ite(is_nan(a), a,
                       z3::ite(is_nan(b), b, z3::ite(below(b, a), a, z3::ite(below(a, b), b, a & b))));
      default: break;
    }
    Term out = unknown(op, t, result, in);
    if (info(op).commutes()) facts_.push_back(out == unknown(op, t, result, {b, a}));
    if (op == Op::Add && b.simplify().is_numeral()) facts_.push_back(sums_with_zeros(a, b, out));
    if (op == Op::Add && a.simplify().is_numeral()) facts_.push_back(sums_with_zeros(b, a, out));
    if (op != Op::Rem) facts_.push_back(z3::implies(is_nan(a) || is_nan(b), is_nan(out)));
    return out;
  }

  Term unknown(Op op, Type from, Type to, const Terms& in) {
    vague_ = true;
    z3::sort_vector domain(c_);
    z3::expr_vector arguments(c_);
    for (const Term& t : in) domain.push_back(t.get_sort()), arguments.push_back(t);
    std::string name = std::string(info(op).name) + " " + from.name() + " " + to.name();
    return c_.function(name.c_str(), domain, c_.bv_sort(to.bits()))(arguments);
  }

  z3::context& c_;
  unsigned count_ = 0;
  Terms facts_;
  bool vague_ = false;
};

}  // namespace porphyry::prove
