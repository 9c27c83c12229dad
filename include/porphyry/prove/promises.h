// What promises say of an operation's operands, as terms of a solver, written down from the language's page.
#pragma once

#include <stdexcept>

#include "porphyry/ir/words.h"
#include "porphyry/prove/algebra.h"

namespace porphyry::prove {

// Whether an operation on scalars keeps its promises; `to` is the width of its result.
class Promises {
 public:
  using Term = Algebra::Term;
  explicit Promises(const Algebra& algebra) : algebra_(algebra) {}

  Term kept(Op op, uint8_t promises, const std::vector<Term>& v, unsigned to) const {
    Term out = v[0].ctx().bool_val(true);
    const unsigned w = Algebra::bits(v[0]);
    if (promises & promise::fits_s) out = out && fits(op, v, to, true);
    if (promises & promise::fits_u) out = out && fits(op, v, to, false);
    if (promises & promise::lossless) out = out && keeps_bits(op, v, to);
    if (promises & promise::nonzero) out = out && v.back() != algebra_.number(w, 0);
    if (promises & promise::bounded) out = out && z3::ult(v.back(), algebra_.number(w, w));
    if (promises & promise::separate) out = out && (v[0] & v[1]) == algebra_.number(w, 0);
    return out;
  }

 private:
  Term fits(Op op, const std::vector<Term>& v, unsigned to, bool is_signed) const {
    const unsigned w = Algebra::bits(v[0]);
    auto wide = [&](const Term& x) {
      return is_signed ? Algebra::sign_extend(x, 2 * w) : Algebra::zero_extend(x, 2 * w);
    };
    auto within = [&](const Term& x) { return wide(x.extract(w - 1, 0)) == x; };
    switch (op) {
      case Op::Add: return within(wide(v[0]) + wide(v[1]));
      case Op::Sub: return within(wide(v[0]) - wide(v[1]));
      case Op::Mul: return within(wide(v[0]) * wide(v[1]));
      case Op::Neg:
      case Op::Abs: return v[0] != z3::shl(algebra_.number(w, 1), algebra_.number(w, w - 1));
      case Op::Shl: {
        Term by = z3::urem(v[1], algebra_.number(w, w)), shifted = z3::shl(v[0], by);
        return (is_signed ? z3::ashr(shifted, by) : z3::lshr(shifted, by)) == v[0];
      }
      case Op::Narrow: {
        Term low = v[0].extract(to - 1, 0);
        return (is_signed ? Algebra::sign_extend(low, w) : Algebra::zero_extend(low, w)) == v[0];
      }
      default: throw std::logic_error("a promise that the proof does not know");
    }
  }
  Term keeps_bits(Op op, const std::vector<Term>& v, unsigned to) const {
    const unsigned w = Algebra::bits(v[0]);
    switch (op) {
      case Op::DivS: return z3::srem(v[0], v[1]) == algebra_.number(w, 0);
      case Op::DivU: return z3::urem(v[0], v[1]) == algebra_.number(w, 0);
      case Op::ShrS:
      case Op::ShrU: {
        Term by = z3::urem(v[1], algebra_.number(w, w));
        Term shifted = op == Op::ShrS ? z3::ashr(v[0], by) : z3::lshr(v[0], by);
        return z3::shl(shifted, by) == v[0];
      }
      case Op::Narrow: return fits(op, v, to, true) || fits(op, v, to, false);
      default: throw std::logic_error("a promise that the proof does not know");
    }
  }

  const Algebra& algebra_;
};

}  // namespace porphyry::prove
