// scale: a shift of a product's factor by a constant moves behind the product, where a sum takes it up: the
// sum of a value and another one times 2, 4 or 8 is one instruction on many processors, and in an address it
// costs nothing.
//
//     s = shl x, 1                      p = mul x, y
//     p = mul s, y          becomes     t = shl p, 1
//     r = add z, p                      r = add z, t
//
// A mask of the shifted factor is shifted back and masks the factor, which often makes of it one of the
// lowest bits. What is moved has no other use, so that nothing is computed twice; modulo 2^width both are the
// same. O(products and their uses).
#include <fmt/format.h>

#include <optional>

#include "porphyry/ir/edit.h"
#include "porphyry/ir/pen.h"
#include "porphyry/optimize/pass.h"

namespace porphyry {
namespace {

constexpr Bits most_shift = 3;  // of an address

class Scaler {
 public:
  explicit Scaler(FunctionContext& c) : c_(c), f_(c.function), pen_(c.module, c.function) {}

  void run() {
    for (Block b : f_.blocks())
      for (Instruction i : f_.instructions(b))
        if (f_.op(i) == Op::Mul && f_.type(f_.result(i)).is_integer() && goes_into_sums(f_.result(i)))
          for (size_t k : {0u, 1u})
            if (const auto factor = shifted(f_.operand(i, k))) {
              move(i, *factor, f_.operand(i, 1 - k));
              break;
            }
  }

 private:
  // `value` shifted by `by`, and then masked.
  struct Shifted {
    Value value;
    Bits by = 0;
    std::optional<Bits> mask;
  };

  bool goes_into_sums(Value v) const {
    if (f_.type(v).has_lanes() || f_.type(v).bits() < 32) return false;
    for (Slot s : f_.uses(v))
      if (const auto use = f_.use(s); use.edge.exists() || f_.op(use.user) != Op::Add) return false;
    return f_.has_uses(v);
  }
  // The operation that makes a value and has a constant on its right, if it is this one and has no other use.
  Instruction made_by(Op op, Value v) const {
    const Instruction d = f_.definition(v);
    const bool is = d.exists() && f_.op(d) == op && f_.has_one_use(v) && f_.is_constant(f_.operand(d, 1));
    return is ? d : Instruction();
  }
  std::optional<Shifted> shifted(Value factor) const {
    Shifted out;
    if (const Instruction masking = made_by(Op::And, factor); masking.exists()) {
      out.mask = f_.constant_bits(f_.operand(masking, 1));
      factor = f_.operand(masking, 0);
    }
    const Instruction shift = made_by(Op::Shl, factor);
    if (!shift.exists()) return {};
    out.value = f_.operand(shift, 0);
    out.by = f_.constant_bits(f_.operand(shift, 1));
    if (out.by == 0 || out.by > most_shift) return {};
    if (out.mask) *out.mask >>= out.by;  // the shift left nothing but zeros below
    return out;
  }

  void move(Instruction product, const Shifted& factor, Value other) {
    const Value old = f_.result(product);
    const Type t = f_.type(old);
    pen_.before(product).from(f_.position(product));
    const Value x = factor.mask ? pen_.and_(factor.value, f_.constant(t, *factor.mask)) : factor.value;
    const Value made = pen_.shl(pen_.mul(x, other), f_.constant(t, factor.by));
    if (c_.wants_notes())
      c_.done(f_.position(product), c_.name(old),
              fmt::format("a factor's shift by {} moved behind the product", factor.by),
              "sums take it up there", {{"shift", std::to_string(uint64_t(factor.by))}});
    hand_name_over(f_, old, made);
    f_.replace_uses(old, made);
  }

  FunctionContext& c_;
  Function& f_;
  Pen pen_;
};

}  // namespace

void scale(FunctionContext& c) { Scaler(c).run(); }

}  // namespace porphyry
