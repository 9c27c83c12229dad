// Shifts, rotations and counts of bits where the book has no rule for them on lanes.
//
// Idea: lanes that the book does not shift are shifted as lanes twice as wide, and what crosses over is
// masked away; amounts that differ from lane to lane are taken bit by bit; bits are counted in pairs, fours
// and so on. A lane costs a fraction of what taking all of them apart would where there are eight or more.
// O(lanes).
#include "expand.h"
#include "lanes.h"

namespace porphyry::machine {
namespace {

constexpr unsigned many_lanes = 8;

}  // namespace

// Of lanes that can be shifted by constants, those themselves, or lanes twice as wide.
Type LaneCutter::shifted_as(Op op, Type w) const {
  if (coverage_.by_constant(op, w)) return w;
  Type wide = views_.mask_type(Type::integer(2 * w.bits()));
  return wide.exists() && coverage_.by_constant(op, wide) ? wide : Type();
}

bool LaneCutter::may_shift(Op op, Type w) const {
  return coverage_.by_constant(op, w) || shifted_as(op == Op::ShrS ? Op::ShrU : op, w).exists();
}

// By less than the width.
Value LaneCutter::shifted(Op op, Value x, unsigned by) {
  Type w = pen_.type(x);
  if (by == 0) return x;
  if (coverage_.by_constant(op, w)) return pen_.make(op, {x, f_.constant(w, by)});
  if (op == Op::ShrS) {  // the sign comes back by subtracting its place
    Value sign = f_.constant(w, (Bits(1) << (w.bits() - 1)) >> by);
    return pen_.sub(pen_.xor_(shifted(Op::ShrU, x, by), sign), sign);
  }
  Type wide = shifted_as(op, w);
  Bits full = mask_of(w.bits()), kept = op == Op::Shl ? full << by & full : full >> by;
  Value moved = pen_.make(op, {views_.bits(pen_, x, wide), f_.constant(wide, by)});
  return pen_.and_(views_.bits(pen_, moved, w), kept);
}

// A shift, or a rotation, by less than the width.
Value LaneCutter::turned(Op op, Value x, unsigned by) {
  if (op != Op::RotL && op != Op::RotR) return shifted(op, x, by);
  unsigned width = pen_.type(x).bits(), left = op == Op::RotL ? by : (width - by) % width;
  if (left == 0) return x;
  if (const Value moved = turned_by_bytes(x, left); moved.exists()) return moved;
  return pen_.or_(shifted(Op::Shl, x, left), shifted(Op::ShrU, x, width - left));
}

// A rotation to the left by whole bytes moves them; nothing for others.
Value LaneCutter::turned_by_bytes(Value x, unsigned left) {
  const Type w = pen_.type(x), bytes = views_.whole(Type::integer(8));
  if (left % 8 || !bytes.exists()) return {};
  const unsigned of_lane = w.element_bytes(), by = left / 8;
  std::vector<uint16_t> order;
  for (unsigned k = 0; k < bytes.lanes(); ++k)
    order.push_back(static_cast<uint16_t>(k / of_lane * of_lane + (k + of_lane - by) % of_lane));
  const Value b = views_.bits(pen_, x, bytes), moved = shuffled(b, b, order);
  return moved.exists() ? views_.bits(pen_, moved, w) : Value();
}

bool LaneCutter::shift(Instruction i, Type w) {
  Op op = f_.op(i);
  Value amount = f_.operand(i, 1);
  bool rotates = op == Op::RotL || op == Op::RotR;
  bool turns = rotates ? may_shift(Op::Shl, w) && may_shift(Op::ShrU, w) : may_shift(op, w);
  if (f_.is_constant(amount) && f_.is_uniform(amount)) {
    unsigned by = static_cast<unsigned>(f_.constant_bits(amount) % w.bits());
    return turns && each_chunk(i, [&](Value x) { return turned(op, x, by); });
  }
  if (!rotates && coverage_.by_splat(op, w) && shift_by_one_amount(i, w)) return true;
  return turns && w.lanes() >= many_lanes && masks_ && maskable(Op::LtS, w) && may_shift(Op::Shl, w) &&
         each_pair(i, [&](Value x, Value by) { return turned_by_bits(op, x, by); });
}

// By an amount that is the same for all lanes.
bool LaneCutter::shift_by_one_amount(Instruction i, Type w) {
  Parts amounts = views_.chunks(f_.operand(i, 1));
  Instruction d = f_.definition(amounts[0]);
  for (Value x : amounts)
    if (f_.definition(x) != d) return false;
  if (!d.exists() || f_.op(d) != Op::Splat) return false;
  Op op = f_.op(i);
  return each_chunk(i, [&](Value x) {
    return pen_.make(op, {x, pen_.convert(Op::Splat, w, f_.operand(d, 0))});
  });
}

// By 1, 2, 4, … where that bit of the amount is set.
Value LaneCutter::turned_by_bits(Op op, Value x, Value by) {
  Type w = pen_.type(x);
  unsigned top = w.bits() - 1;
  for (unsigned bit = 0; 1u << bit < w.bits(); ++bit) {
    Value is_set = mask(Op::LtS, shifted(Op::Shl, by, top - bit), f_.constant(w, 0));
    x = chosen(is_set, turned(op, x, 1u << bit), x);
  }
  return x;
}

// ---- counts -----------------------------------------------------------------------------------------------

// Bits that come from a neighbour are in none of the places that are kept.
Value LaneCutter::counted(Value x) {
  Type w = pen_.type(x), as = shifted_as(Op::ShrU, w);
  auto down = [&](Value v, unsigned by) {
    return views_.bits(pen_, pen_.shr_u(views_.bits(pen_, v, as), by), w);
  };
  x = pen_.sub(x, pen_.and_(down(x, 1), stripes(1, w.bits())));
  Bits pairs = stripes(2, w.bits());
  x = pen_.add(pen_.and_(x, pairs), pen_.and_(down(x, 2), pairs));
  for (unsigned run = 4; run < w.bits(); run *= 2)
    x = pen_.and_(pen_.add(x, down(x, run)), stripes(run, w.bits()));
  return x;
}

bool LaneCutter::count_bits(Instruction i, Type w) {
  Op op = f_.op(i);
  if (w.lanes() < many_lanes || !may_shift(Op::ShrU, w)) return false;
  return each_chunk(i, [&](Value x) {
    if (op == Op::Ctz)  // the ones below the lowest one
      x = pen_.and_(pen_.make(Op::Not, {x}), pen_.sub(x, pen_.number(w, 1)));
    if (op == Op::Clz) {  // smear the highest one down; what is not smeared leads
      for (unsigned reach = 1; reach < w.bits(); reach *= 2) x = pen_.or_(x, shifted(Op::ShrU, x, reach));
      x = pen_.make(Op::Not, {x});
    }
    return counted(x);
  });
}

bool LaneCutter::reverse_bytes(Instruction i, Type w) {
  Type bytes = views_.whole(Type::integer(8));
  std::vector<uint16_t> order;
  for (unsigned k = 0; k < bytes.lanes(); ++k)
    order.push_back(static_cast<uint16_t>(k ^ (w.element_bytes() - 1)));
  return each_chunk(i, [&](Value x) {
    const Value b = views_.bits(pen_, x, bytes), moved = shuffled(b, b, order);
    return moved.exists() ? views_.bits(pen_, moved, w) : Value();
  });
}

}  // namespace porphyry::machine
