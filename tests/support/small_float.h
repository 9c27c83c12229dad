// Floats of a few bits, so that rules on floats can be tried with every operand: a sign, exponent and
// mantissa bits as the standard lays them out, subnormals, infinities, NaNs with payloads. Operations are
// computed in f64, where all of them are exact or innocently rounded twice, and rounded to nearest even. What
// the language leaves open (NaN payloads, permits) is a set of results.
#pragma once

#include <bitset>
#include <cmath>
#include <cstdint>
#include <vector>

#include "porphyry/ir/operations.h"
#include "porphyry/ir/words.h"

namespace porphyry::testing {

class SmallFloats {
 public:
  using Set = std::bitset<256>;

  SmallFloats(unsigned exponent, unsigned mantissa) : e_(exponent), m_(mantissa) {}
  unsigned count() const { return 1u << (1 + e_ + m_); }

  bool is_nan(unsigned v) const {
    return (v >> m_ & ((1u << e_) - 1)) == (1u << e_) - 1 && (v & ((1u << m_) - 1));
  }
  bool is_inf(unsigned v) const {
    return (v >> m_ & ((1u << e_) - 1)) == (1u << e_) - 1 && !(v & ((1u << m_) - 1));
  }
  unsigned sign() const { return 1u << (e_ + m_); }
  bool is_zero(unsigned v) const { return (v & ~sign()) == 0; }

  double value(unsigned v) const {
    int exponent = static_cast<int>(v >> m_ & ((1u << e_) - 1)), bias = (1 << (e_ - 1)) - 1;
    double mantissa = static_cast<double>(v & ((1u << m_) - 1)) / (1 << m_), out;
    if (is_nan(v)) return NAN;
    if (is_inf(v))
      out = INFINITY;
    else
      out = exponent ? std::ldexp(1 + mantissa, exponent - bias) : std::ldexp(mantissa, 1 - bias);
    return v & sign() ? -out : out;
  }
  unsigned rounded(double d) const {
    if (std::isnan(d)) return quiet();
    unsigned s = std::signbit(d) ? sign() : 0;
    d = std::fabs(d);
    int bias = (1 << (e_ - 1)) - 1;
    if (d == 0) return s;
    int exponent = 0;
    if (std::isfinite(d)) std::frexp(d, &exponent);
    exponent = std::max(exponent - 1, 1 - bias);
    double unit = std::ldexp(1, exponent - static_cast<int>(m_));
    double steps = std::isfinite(d) ? std::nearbyint(d / unit) * unit : d;
    if (steps >= std::ldexp(1, bias + 1)) return s | ((1u << e_) - 1) << m_;
    for (unsigned v = 0; v < sign(); ++v)
      if (value(v) == steps) return s | v;
    return s;
  }
  unsigned quiet() const { return ((1u << e_) - 1) << m_ | 1u << (m_ - 1); }
  Set one(unsigned v) const { return Set().set(v); }
  Set quiet_nans() const {
    Set out;
    for (unsigned v = 0; v < count(); ++v)
      if (is_nan(v) && (v >> (m_ - 1) & 1)) out.set(v);
    return out;
  }
  Set everything() const {
    Set out;
    for (unsigned v = 0; v < count(); ++v) out.set(v);
    return out;
  }

  // A result in floats, or 0 and 1 for a comparison.
  Set apply(Op op, uint8_t permits, const std::vector<Set>& in) const {
    Set out;
    std::vector<unsigned> v(in.size());
    combine(op, permits, in, v, 0, out);
    return out;
  }

 private:
  void combine(Op op, uint8_t permits, const std::vector<Set>& in, std::vector<unsigned>& v, size_t k,
               Set& out) const {
    if (k == in.size()) {
      out |= single(op, permits, v);
      return;
    }
    for (unsigned x = 0; x < 256; ++x) {
      if (!in[k][x]) continue;
      v[k] = x;
      combine(op, permits, in, v, k + 1, out);
      bool is_condition = op == Op::Pick && k == 0;
      if ((permits & permit::nozerosign) && !is_condition && is_zero(x))
        v[k] = x ^ sign(), combine(op, permits, in, v, k + 1, out);
    }
  }

  Set single(Op op, uint8_t permits, const std::vector<unsigned>& v) const {
    const OperationInfo& row = info(op);
    bool compares = row.result == ResultRule::Truth;
    Set out = plain(op, v);
    auto excluded = [&](unsigned x) {
      return ((permits & permit::nonan) && is_nan(x)) || ((permits & permit::noinf) && is_inf(x));
    };
    bool arbitrary = false;
    for (size_t k = op == Op::Pick; k < v.size(); ++k) arbitrary |= excluded(v[k]);
    if (!compares)
      for (unsigned x = 0; x < count(); ++x) arbitrary |= out[x] && excluded(x);
    if (arbitrary) return compares ? Set(3) : everything();
    if (!compares && (permits & permit::nozerosign) && (out[0] || out[sign()])) out.set(0), out.set(sign());
    return out;
  }

  Set plain(Op op, const std::vector<unsigned>& v) const {
    double a = value(v[0]), b = value(v.size() > 1 ? v[1] : v[0]);
    auto truth = [](bool t) { return Set(t ? 2 : 1); };
    switch (op) {
      case Op::Pick: return one(v[0] ? v[1] : v[2]);
      case Op::Neg: return one(v[0] ^ sign());
      case Op::Abs: return one(v[0] & ~sign());
      case Op::CopySign: return one((v[0] & ~sign()) | (v[1] & sign()));
      case Op::Eq: return truth(a == b);
      case Op::Ne: return truth(a != b);
      case Op::Lt: return truth(a < b);
      case Op::Le: return truth(a <= b);
      case Op::Gt: return truth(a > b);
      case Op::Ge: return truth(a >= b);
      case Op::Unordered: return truth(std::isnan(a) || std::isnan(b));
      case Op::Not: return truth(v[0] == 0);
      case Op::And: return truth(v[0] & v[1]);
      case Op::Or: return truth(v[0] | v[1]);
      case Op::Xor: return truth(v[0] ^ v[1]);
      default: break;
    }
    double out = 0;
    switch (op) {
      case Op::Add: out = a + b; break;
      case Op::Sub: out = a - b; break;
      case Op::Mul: out = a * b; break;
      case Op::Div: out = a / b; break;
      case Op::Rem: out = std::fmod(a, b); break;
      case Op::Sqrt: out = std::sqrt(a); break;
      case Op::Fma: out = std::fma(a, b, value(v[2])); break;
      case Op::Floor: out = std::floor(a); break;
      case Op::Ceil: out = std::ceil(a); break;
      case Op::Round: out = std::nearbyint(a); break;
      case Op::Trunc: out = std::trunc(a); break;
      case Op::Min:
        out = std::isnan(a) || std::isnan(b) ? NAN : a == b ? (std::signbit(a) ? a : b) : std::min(a, b);
        break;
      case Op::Max:
        out = std::isnan(a) || std::isnan(b) ? NAN : a == b ? (std::signbit(a) ? b : a) : std::max(a, b);
        break;
      default: throw std::logic_error("small floats lack an operation");
    }
    if (std::isnan(out)) return quiet_nans();
    return one(rounded(out));
  }

  unsigned e_, m_;
};

}  // namespace porphyry::testing
