// Products of lanes that the book multiplies in halves, or as lanes twice as wide.
//
// Idea: what makes an operand often says that its upper halves are zeros or signs, as widening does; then one
// product of halves is the product. Else it is long multiplication, low * low + (high * low + low * high)
// shifted up, without those that are known to be zeros. Upper halves of products, and products of lanes too
// narrow for the book, are made of every second lane and of those between. O(lanes).
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

// The product of the lower halves of lanes, as numbers with signs or without; written so that rules for such
// products find it, whatever the operands are.
Value LaneCutter::times(Value x, Value y, bool with_signs) {
  Type w = pen_.type(x);
  Value mask = f_.constant(w, mask_of(w.bits() / 2)), by = f_.constant(w, w.bits() / 2);
  auto half = [&](Value v) {
    return with_signs ? pen_.write(Op::ShrS, {pen_.write(Op::Shl, {v, by}), by})
                      : pen_.write(Op::And, {v, mask});
  };
  return pen_.write(Op::Mul, {half(x), half(y)});
}

bool LaneCutter::product(Instruction i, Type w) {
  const bool moves_halves = coverage_.by_constant(Op::Shl, w) && coverage_.by_constant(Op::ShrU, w);
  if (coverage_.low_halves(Op::Mul, w) && moves_halves)
    return each_pair(i, [&](Value x, Value y) { return long_product(x, y); });
  Type wide = views_.mask_type(Type::integer(2 * w.bits()));
  return wide.exists() && coverage_.covers(Op::Mul, wide, wide) && coverage_.by_constant(Op::ShrU, wide) &&
         each_pair(i, [&](Value x, Value y) { return product_as(wide, x, y); });
}

// Long multiplication in halves of lanes, without those that are known to be zeros.
Value LaneCutter::long_product(Value a, Value b) {
  unsigned half = pen_.type(a).bits() / 2;
  Halves x = halves(a), y = halves(b);
  if (x.signs && y.signs && coverage_.signed_halves(Op::Mul, pen_.type(a))) return times(x.low, y.low, true);
  Value crossed, low = times(x.low, y.low, false);
  if (!x.zeros) crossed = times(pen_.shr_u(a, half), y.low, false);
  if (!y.zeros) {
    Value other = times(x.low, pen_.shr_u(b, half), false);
    crossed = crossed.exists() ? pen_.add(crossed, other) : other;
  }
  return crossed.exists() ? pen_.add(low, pen_.shl(crossed, half)) : low;
}

// Of lanes twice as wide the products of the lower halves are there, behind others' bits, and those of the
// upper ones where one of them stays in its place.
Value LaneCutter::product_as(Type wide, Value a, Value b) {
  Type w = pen_.type(a);
  Value x = views_.bits(pen_, a, wide), y = views_.bits(pen_, b, wide);
  Bits low = mask_of(w.bits());
  Value even = pen_.and_(pen_.mul(x, y), low);
  Value odd = pen_.mul(pen_.and_(x, low << w.bits()), pen_.shr_u(y, w.bits()));
  return views_.bits(pen_, pen_.or_(even, odd), w);
}

// The upper halves of products of every second lane, as lanes twice as wide, and of those between them.
bool LaneCutter::high_product(Instruction i, Type w) {
  bool with_signs = f_.op(i) == Op::MulHiS;
  Type wide = views_.mask_type(Type::integer(2 * w.bits()));
  auto shifts = [&](Op op) { return wide.exists() && coverage_.by_constant(op, wide); };
  if (!shifts(Op::ShrU)) return false;
  bool halves = with_signs ? coverage_.signed_halves(Op::Mul, wide) : coverage_.low_halves(Op::Mul, wide);
  bool whole =
      coverage_.covers(Op::Mul, wide, wide) && (!with_signs || (shifts(Op::Shl) && shifts(Op::ShrS)));
  if (!halves && !whole) return false;
  return each_pair(i, [&](Value a, Value b) {
    Value x = views_.bits(pen_, a, wide), y = views_.bits(pen_, b, wide);
    unsigned n = w.bits();
    Value even = pen_.shr_u(times(x, y, with_signs), n);
    Value odd = pen_.and_(times(pen_.shr_u(x, n), pen_.shr_u(y, n), with_signs), mask_of(n) << n);
    return views_.bits(pen_, pen_.or_(even, odd), w);
  });
}

}  // namespace porphyry::machine
