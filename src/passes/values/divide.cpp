// divide: quotients and remainders by constants become products and shifts; what remains of a division that
// is made anyway is taken from its quotient.
//
// Unsigned: with m = ceil(2^p / d) and e = m * d - 2^p, floor(m * x / 2^p) is x / d for all x < 2^k when e <=
// 2^(p - k); the least p from the width on is taken for which m fits, after the even part of d is shifted out
// where that helps. Signed the same for magnitudes, and one is added for negative x. T. Granlund, P.
// Montgomery, "Division by Invariant Integers using Multiplication", 1994. Quotients that are promised to be
// exact are products with the inverse of d modulo 2^width. O(divisions * width).
#include <fmt/format.h>

#include <map>
#include <tuple>

#include "porphyry/analyze/number.h"
#include "porphyry/ir/edit.h"
#include "porphyry/ir/pen.h"
#include "porphyry/ir/words.h"
#include "porphyry/optimize/pass.h"
#include "porphyry/print/print.h"

namespace porphyry {
namespace {

unsigned ctz(Bits v) {
  unsigned n = 0;
  for (; !(v & 1); v >>= 1) ++n;
  return n;
}
bool is_power_of_two(Bits v) { return v && !(v & (v - 1)); }

struct Reciprocal {
  Bits factor = 0;     // m, without its bit of 2^width
  unsigned shift = 0;  // p - width
  bool wide = false;   // m has one bit more than the width
};

// For x below 2^digits. d is no power of two.
Reciprocal reciprocal(Bits d, unsigned width, unsigned digits) {
  Bits q = 0, r = 1;  // of 2^p / d
  for (unsigned p = 1;; ++p) {
    q <<= 1, r <<= 1;
    if (r >= d) r -= d, q |= 1;
    if (p < width) continue;
    Bits error = d - r;  // (q + 1) * d - 2^p
    if (p - digits < 127 && error > Bits(1) << (p - digits)) continue;
    Bits m = q + 1;
    return {m & mask_of(width), p - width, (m >> width) != 0};
  }
}

Bits inverse(Bits d, unsigned width) {
  Bits x = d;  // right in three bits; each step doubles them
  for (unsigned good = 3; good < width; good *= 2) x *= 2 - d * x;
  return x & mask_of(width);
}

class Divider {
 public:
  explicit Divider(FunctionContext& c) : c_(c), f_(c.function), pen_(c.module, c.function) {}

  void run() {
    for (Block b : f_.blocks())
      for (Instruction i = f_.first(b), next; i.exists(); i = next) {
        next = f_.next(i);
        one(i);
      }
    for (Block b : f_.blocks()) share_quotients(b);
  }

 private:
  void one(Instruction i) {
    Op op = f_.op(i);
    bool is_signed = op == Op::DivS || op == Op::RemS, remainder = op == Op::RemS || op == Op::RemU;
    if (!is_signed && op != Op::DivU && op != Op::RemU) return;
    Value x = f_.operand(i, 0), y = f_.operand(i, 1);
    type_ = f_.type(x);
    width_ = type_.bits();
    if (!f_.is_constant(y) || !f_.is_uniform(y) || width_ < 4) return;
    Bits d = f_.constant_word(y);
    bool negative = is_signed && (d >> (width_ - 1) & 1);
    Bits magnitude = negative ? -d & mask_of(width_) : d;
    if (magnitude < 2) return;  // by 0 and -1 it may trap; by 1 it is for fold
    if (width_ > 64)
      return declined(i, "its product takes four of the target's", "a number of at most 64 bits");
    if (c_.keeps_small() && !is_power_of_two(magnitude))
      return declined(i, "its product is larger code", "a function that is not to be kept small");
    pen_.before(i).from(f_.position(i));
    Value q;
    if (f_.promises(i) & promise::lossless)
      q = exact(x, d, is_signed);
    else
      q = is_signed ? of_signed(x, magnitude, negative) : of_unsigned(x, magnitude);
    if (remainder)
      q = is_power_of_two(magnitude) && !is_signed ? pen_.and_(x, number(d - 1))
                                                   : pen_.sub(x, pen_.mul(q, number(d)));
    if (c_.wants_notes())
      c_.done(f_.position(i), c_.name(f_.result(i)),
              remainder ? "the remainder became a product and a difference"
                        : "the quotient became a product and shifts",
              "the divisor is constant", {{"operation", write_text(c_.module, f_, i)}});
    hand_name_over(f_, f_.result(i), q);
    f_.replace_uses(f_.result(i), q);
    f_.erase(i);
  }
  // x rem y = x - x div y * y, where that quotient is computed in the same block: before, or behind where
  // nothing in between shows when it traps.
  void share_quotients(Block b) {
    using Key = std::tuple<uint32_t, uint32_t, bool>;  // dividend, divisor, signed
    std::map<Key, Instruction> quotients, waiting;
    for (Instruction i = f_.first(b), next; i.exists(); i = next) {
      next = f_.next(i);
      const Op op = f_.op(i);
      const bool divides = op == Op::DivS || op == Op::DivU, remains = op == Op::RemS || op == Op::RemU;
      if (!divides && !remains) {
        if (f_.has_effect(i)) waiting.clear();
        continue;
      }
      if (comes_with_quotient(i)) continue;
      const Key key{f_.operand(i, 0).index, f_.operand(i, 1).index, op == Op::DivS || op == Op::RemS};
      if (auto q = quotients.find(key); remains && q != quotients.end()) {
        take_rest(i, q->second);
      } else if (auto r = waiting.find(key); divides && r != waiting.end()) {
        f_.move_before(i, r->second);
        take_rest(r->second, i);
        waiting.erase(r);
        quotients.emplace(key, i);
      } else {
        (divides ? quotients : waiting).emplace(key, i);
      }
    }
  }
  // A processor that divides leaves both, if it leaves them for the same operands: taking that is the
  // shortest code, but for signed remainders, of which the least number by -1 needs more code around.
  bool comes_with_quotient(Instruction i) const {
    const bool is_signed = f_.op(i) == Op::DivS || f_.op(i) == Op::RemS;
    const Type t = f_.type(f_.result(i));
    return c_.keeps_small() && !t.has_lanes() && (t.bits() == 32 || t.bits() == 64) &&
           (!is_signed || f_.is_constant(f_.operand(i, 1)));
  }
  void take_rest(Instruction i, Instruction quotient) {
    type_ = f_.type(f_.result(i));
    if (type_.bits() > 64) return;
    pen_.before(i).from(f_.position(i));
    Value rest = pen_.sub(f_.operand(i, 0), pen_.mul(f_.result(quotient), f_.operand(i, 1)));
    if (c_.wants_notes())
      c_.done(f_.position(i), c_.name(f_.result(i)), "the remainder became a product and a difference",
              "its quotient is computed anyway", {{"operation", write_text(c_.module, f_, i)}});
    hand_name_over(f_, f_.result(i), rest);
    f_.replace_uses(f_.result(i), rest);
    f_.erase(i);
  }

  void declined(Instruction i, std::string why, std::string unlock) {
    if (c_.wants_notes())
      c_.declined(f_.position(i), c_.name(f_.result(i)), "the division stays", std::move(why),
                  std::move(unlock), {{"operation", write_text(c_.module, f_, i)}});
  }

  Value number(Bits n) { return f_.constant(type_, n & mask_of(width_)); }
  Value shifted(Op op, Value v, unsigned by) { return by ? pen_.write(op, {v, number(by)}) : v; }

  // By the odd part's inverse, once its even part is shifted out.
  Value exact(Value x, Bits d, bool is_signed) {
    unsigned even = ctz(d);
    Bits odd = is_signed ? sign_extended(d, width_) : d;
    for (unsigned k = 0; k < even; ++k)
      odd = is_signed ? static_cast<Bits>(static_cast<__int128>(odd) >> 1) : odd >> 1;
    return pen_.mul(shifted(is_signed ? Op::ShrS : Op::ShrU, x, even), number(inverse(odd, width_)));
  }

  Value of_unsigned(Value x, Bits d) {
    if (is_power_of_two(d)) return shifted(Op::ShrU, x, ctz(d));
    Number known = number_of(f_, x);
    unsigned digits = 1;
    while (digits < width_ && (known.high >> digits)) ++digits;
    Reciprocal r = reciprocal(d, width_, digits);
    if (r.wide && ctz(d)) {
      unsigned even = ctz(d);
      x = shifted(Op::ShrU, x, even);
      r = reciprocal(d >> even, width_, std::max(digits, even + 1) - even);
    }
    Value high = pen_.write(Op::MulHiU, {x, number(r.factor)});
    if (!r.wide) return shifted(Op::ShrU, high, r.shift);
    // (x + high) / 2, whose sum has one bit more.
    Value half = shifted(Op::ShrU, pen_.sub(x, high), 1);
    return shifted(Op::ShrU, pen_.add(half, high), r.shift - 1);
  }

  Value of_signed(Value x, Bits d, bool negative) {
    Value q;
    if (is_power_of_two(d)) {
      // Negative numbers are rounded towards zero by what lies below the shift.
      unsigned by = ctz(d);
      Value below = pen_.write(Op::ShrU, {shifted(Op::ShrS, x, width_ - 1), number(width_ - by)});
      q = shifted(Op::ShrS, pen_.add(x, below), by);
    } else {
      Reciprocal r = reciprocal(d, width_, width_ - 1);
      q = pen_.write(Op::MulHiS, {x, number(r.factor)});
      // A factor whose top bit is set counts as negative.
      if (r.factor >> (width_ - 1) & 1) q = pen_.add(q, x);
      q = shifted(Op::ShrS, q, r.shift);
      q = pen_.add(q, shifted(Op::ShrU, x, width_ - 1));
    }
    return negative ? pen_.neg(q) : q;
  }

  FunctionContext& c_;
  Function& f_;
  Pen pen_;
  Type type_;
  unsigned width_ = 0;
};

}  // namespace

void divide(FunctionContext& c) { Divider(c).run(); }

}  // namespace porphyry
