// Products of lanes that the book multiplies in halves only.
//
// Idea: what makes an operand often says that its upper halves are zeros or signs, as widening does; then one
// product of halves is the product. Else it is long multiplication, low * low + (high * low + low * high)
// shifted up, without those that are known to be zeros. O(lanes).
#include <algorithm>

#include "lanes.h"

namespace porphyry::machine {
namespace {

// All lanes of a constant.
template <class Good>
bool all_lanes(const Function& f, Value c, Good good) {
  if (!f.is_constant(c)) return false;
  for (unsigned k = 0; k < f.type(c).lanes(); ++k)
    if (!good(f.constant_word(c, k))) return false;
  return true;
}

}  // namespace

// The lower halves of lanes, and what the instruction that makes these says of the upper ones.
LaneCutter::Halves LaneCutter::halves(Value v) {
  unsigned half = f_.type(v).bits() / 2;
  Bits mask = mask_of(half);
  auto is_low = [&](Bits b) { return b <= mask; };
  auto is_signed = [&](Bits b) { return b <= mask >> 1 || b >= (mask_of(2 * half) ^ mask >> 1); };
  Instruction d = f_.definition(v);
  if (!d.exists()) return {v, all_lanes(f_, v, is_low), all_lanes(f_, v, is_signed)};
  Value by = f_.operand(d, f_.operand_count(d) - 1);
  switch (f_.op(d)) {
    case Op::And:
      if (all_lanes(f_, by, [&](Bits b) { return b == mask; })) return {f_.operand(d, 0), true};
      return {v, all_lanes(f_, by, is_low)};
    case Op::ShrU: return {v, all_lanes(f_, by, [&](Bits b) { return b >= half && b < 2 * half; })};
    case Op::Bits: return widened_halves(v);
    default: return {v};
  }
}

// Whether each lane of `v` is full of the sign of the same lane of `lanes`, as `mask` writes it.
bool LaneCutter::is_sign_of(Value v, Value lanes) const {
  for (Op op : {Op::Neg, Op::WidenU}) {
    Instruction d = f_.definition(v);
    if (!d.exists() || f_.op(d) != op) return false;
    v = f_.operand(d, 0);
  }
  Instruction d = f_.definition(v);
  if (!d.exists() || (f_.op(d) != Op::LtS && f_.op(d) != Op::GtS)) return false;
  bool less = f_.op(d) == Op::LtS;
  auto is_zero = [](Bits b) { return b == 0; };
  return f_.operand(d, !less) == lanes && all_lanes(f_, f_.operand(d, less), is_zero);
}

// Of lanes half as wide, each with zeros or its sign behind it: neither is needed to have them in their
// places, nor the shuffle of a shuffle.
LaneCutter::Halves LaneCutter::widened_halves(Value v) {
  Type w = f_.type(v);
  Instruction between = f_.definition(f_.operand(f_.definition(v), 0));
  if (!between.exists() || f_.op(between) != Op::Shuffle) return {v};
  Value from = f_.operand(between, 0), upper = f_.operand(between, 1);
  Type narrow = f_.type(from);
  bool zeros = all_lanes(f_, upper, [](Bits b) { return b == 0; });
  if (narrow.lanes() != 2 * w.lanes() || (!zeros && !is_sign_of(upper, from))) return {v};
  std::vector<uint16_t> lanes;
  for (unsigned k = 0; k < w.lanes(); ++k) {
    uint16_t low = f_.shuffle_lane(between, 2 * k), high = f_.shuffle_lane(between, 2 * k + 1);
    if (low >= narrow.lanes() || high != low + narrow.lanes()) return {v};
    lanes.push_back(low);
  }
  if (Instruction d = f_.definition(from); d.exists() && f_.op(d) == Op::Shuffle) {
    std::vector<uint16_t> before;
    for (uint16_t lane : lanes) before.push_back(f_.shuffle_lane(d, lane));
    bool of_first = std::ranges::all_of(before, [&](uint16_t lane) { return lane < narrow.lanes(); });
    if (of_first) from = f_.operand(d, 0), lanes = before;
  }
  auto are = [&](unsigned first) {
    for (unsigned k = 0; k < lanes.size(); ++k)
      if (lanes[k] != 2 * k + first) return false;
    return true;
  };
  if (are(0)) return {views_.bits(pen_, from, w), zeros, !zeros};
  if (are(1)) return {pen_.shr_u(views_.bits(pen_, from, w), narrow.bits()), zeros, !zeros};
  std::vector<uint16_t> order;
  for (uint16_t lane : lanes) order.insert(order.end(), 2, lane);
  if (!coverage_.shuffle(narrow, true, order)) return {v, zeros, !zeros};
  return {views_.bits(pen_, pen_.shuffle(from, from, order), w), zeros, !zeros};
}

// Long multiplication in halves of lanes, without those that are known to be zeros.
bool LaneCutter::product(Instruction i, Type w) {
  unsigned half = w.bits() / 2;
  Value mask = f_.constant(w, mask_of(half)), by = f_.constant(w, half);
  // Written so that the rules for such products find them, whatever the operands are.
  auto times = [&](Value x, Value y) {
    return pen_.write(Op::Mul, {pen_.write(Op::And, {x, mask}), pen_.write(Op::And, {y, mask})});
  };
  auto extended = [&](Value x) { return pen_.write(Op::ShrS, {pen_.write(Op::Shl, {x, by}), by}); };
  bool with_signs = coverage_.signed_halves(Op::Mul, w);
  Parts a = views_.chunks(f_.operand(i, 0)), b = views_.chunks(f_.operand(i, 1)), out;
  for (size_t k = 0; k < a.size(); ++k) {
    Halves x = halves(a[k]), y = halves(b[k]);
    if (with_signs && x.signs && y.signs) {
      out.push_back(pen_.write(Op::Mul, {extended(x.low), extended(y.low)}));
      continue;
    }
    Value crossed, low = times(x.low, y.low);
    if (!x.zeros) crossed = times(pen_.shr_u(a[k], half), y.low);
    if (!y.zeros) {
      Value other = times(x.low, pen_.shr_u(b[k], half));
      crossed = crossed.exists() ? pen_.add(crossed, other) : other;
    }
    out.push_back(crossed.exists() ? pen_.add(low, pen_.shl(crossed, half)) : low);
  }
  now_chunks(f_.result(i), out);
  return true;
}

}  // namespace porphyry::machine
