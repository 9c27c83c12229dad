// Arithmetic, comparisons and conversions on lanes.
#include <bit>
#include <cmath>

#include "lanes.h"
#include "porphyry/ir/compute.h"
#include "porphyry/ir/relatives.h"

namespace porphyry::machine {
namespace {

using types::i64, types::i128;

Op signed_op(Op op) {
  switch (op) {
    case Op::LtU: return Op::LtS;
    case Op::LeU: return Op::LeS;
    case Op::GtU: return Op::GtS;
    case Op::GeU: return Op::GeS;
    default: return op;
  }
}

// Of each pair of lanes the upper one in both places.
std::vector<uint16_t> upper_halves(Type lanes) {
  std::vector<uint16_t> out;
  for (unsigned k = 0; k < lanes.lanes(); ++k) out.push_back(static_cast<uint16_t>(k | 1));
  return out;
}

}  // namespace

void LaneCutter::plain(Instruction i) {
  Op op = f_.op(i);
  Value r = f_.result(i);
  Type t = f_.type(f_.operand(i, f_.operand_count(i) - 1)), result = f_.type(r);
  if (op == Op::Bits) return bits(i);
  if (op == Op::Pick) return pick(i);
  if (t.is_bool() && result.is_bool()) return logic(i);
  if (info(op).result == ResultRule::Truth) return compare(i);
  if (info(op).layout == Layout::Convert) return convert(i);
  Type w = views_.whole(t);
  if (!w.exists() || all_scalars(i)) return lane_by_lane(i);
  if (coverage_.covers(op, w, w)) return chunk_by_chunk(i, w, w);
  if (!other_ways(i, w)) lane_by_lane(i);
}

void LaneCutter::lane_by_lane(Instruction i) {
  size_t results = f_.result_count(i), operands = f_.operand_count(i);
  unsigned lanes = f_.type(f_.result(i)).lanes();
  std::vector<Parts> out(results), in;
  for (size_t k = 0; k < operands; ++k) {
    Value v = f_.operand(i, k);
    in.push_back(f_.type(v).has_lanes() ? views_.scalars(v) : Parts{v});
  }
  Value v[3];
  Type types[2];
  for (size_t k = 0; k < results; ++k) types[k] = f_.type(f_.result(i, k)).element();
  for (unsigned lane = 0; lane < lanes; ++lane) {
    for (size_t k = 0; k < operands; ++k) v[k] = in[k][in[k].size() == 1 ? 0 : lane];
    if (results == 1) {
      out[0].push_back(pen_.make(f_.op(i), {v, operands}, types[0], f_.promises(i), f_.permits(i)));
      continue;
    }
    Instruction made = pen_.put(
        {.op = f_.op(i), .operands = {v, operands}, .results = {types, results}, .promises = f_.promises(i)});
    for (size_t k = 0; k < results; ++k) out[k].push_back(f_.result(made, k));
  }
  for (size_t k = 0; k < results; ++k) now_scalars(f_.result(i, k), out[k]);
}

// Promises say nothing of the lanes that pad, so they go.
void LaneCutter::chunk_by_chunk(Instruction i, Type w, Type result) {
  size_t operands = f_.operand_count(i);
  std::vector<Parts> in;
  for (size_t k = 0; k < operands; ++k) in.push_back(views_.chunks(f_.operand(i, k)));
  Parts out;
  Value v[3];
  uint8_t permits = f_.type(f_.result(i)).lanes() % w.lanes() ? 0 : f_.permits(i);
  for (size_t c = 0; c < in[0].size(); ++c) {
    for (size_t k = 0; k < operands; ++k) v[k] = in[k][c];
    out.push_back(pen_.make(f_.op(i), {v, operands}, result, 0, permits));
  }
  now_chunks(f_.result(i), out);
}

// ---- bools ------------------------------------------------------------------------------------------------

void LaneCutter::logic(Instruction i) {
  if (!masks_ || all_scalars(i)) return lane_by_lane(i);
  Value a = f_.operand(i, 0);
  size_t operands = f_.operand_count(i);
  unsigned width = 0;
  for (size_t k = 0; k < operands && width == 0; ++k)
    if (views_.has_masks(f_.operand(i, k))) width = views_.mask_width(f_.operand(i, k));
  if (width == 0) return lane_by_lane(i);
  Parts x = views_.masks(a, width), y = operands > 1 ? views_.masks(f_.operand(i, 1), width) : x, out;
  for (size_t c = 0; c < x.size(); ++c) {
    Op op = f_.op(i);
    if (op == Op::Not)
      out.push_back(pen_.make(Op::Not, {x[c]}));
    else if (op == Op::Eq)
      out.push_back(pen_.make(Op::Not, {pen_.xor_(x[c], y[c])}));
    else
      out.push_back(pen_.make(op == Op::Ne ? Op::Xor : op, {x[c], y[c]}));
  }
  now_masks(f_.result(i), width, out);
}

// Bits of a where the mask is set, of b where it is not.
Value LaneCutter::chosen(Value mask, Value a, Value b) {
  Type t = pen_.type(a), m = pen_.type(mask);
  if (Instruction d = f_.definition(mask); d.exists() && f_.op(d) == Op::Not) {
    mask = f_.operand(d, 0);
    std::swap(a, b);
  }
  a = views_.bits(pen_, a, m), b = views_.bits(pen_, b, m);
  auto is_zero = [&](Value v) { return f_.is_constant(v) && f_.is_uniform(v) && f_.constant_bits(v) == 0; };
  if (is_zero(b)) return views_.bits(pen_, pen_.and_(a, mask), t);
  Value rest = pen_.make(Op::Not, {mask});
  if (is_zero(a)) return views_.bits(pen_, pen_.and_(rest, b), t);
  return views_.bits(pen_, pen_.or_(pen_.and_(a, mask), pen_.and_(rest, b)), t);
}

void LaneCutter::pick(Instruction i) {
  Value c = f_.operand(i, 0), a = f_.operand(i, 1), b = f_.operand(i, 2), r = f_.result(i);
  Type t = f_.type(r), w = views_.whole(t);
  bool bools = t.is_bool();
  unsigned width = !bools                ? t.bits()
                   : views_.has_masks(c) ? views_.mask_width(c)
                   : views_.has_masks(a) ? views_.mask_width(a)
                                         : views_.usual_width(t);
  bool scalars =
      views_.is_scalar(a) && views_.is_scalar(b) && !(f_.type(c).has_lanes() && views_.has_masks(c));
  if (!masks_ || scalars || (!bools && !w.exists())) return lane_by_lane(i);
  Type m = views_.mask_type(Type::integer(width));
  Parts mask = f_.type(c).has_lanes() ? views_.masks(c, width)
                                      : Parts(LaneViews::count(t, m),
                                              pen_.convert(Op::Splat, m, views_.flag(pen_, c, m.element())));
  Parts x = bools ? views_.masks(a, width) : views_.chunks(a),
        y = bools ? views_.masks(b, width) : views_.chunks(b), out;
  for (size_t k = 0; k < x.size(); ++k) out.push_back(chosen(mask[k], x[k], y[k]));
  bools ? now_masks(r, width, out) : now_chunks(r, out);
}

// ---- comparisons ------------------------------------------------------------------------------------------

// Whether a comparison is a mask by a rule, or by comparing the halves of both numbers.
bool LaneCutter::is_direct(Op op, Type w) const {
  return coverage_.mask(op, w) || (op == Op::GtS && compares_halves(w));
}

bool LaneCutter::compares_halves(Type w) const {
  if (!w.is_integer() || w.bits() < 16) return false;
  Type half = views_.mask_type(Type::integer(w.bits() / 2));
  return half.exists() && coverage_.covers(Op::Sub, w, w) && coverage_.mask(Op::Eq, half) &&
         coverage_.mask(Op::GtS, half) && coverage_.by_constant(Op::ShrS, half) &&
         coverage_.shuffle(half, true, upper_halves(half));
}

// The upper half decides, or where these are equal the sign of the difference, which does not overflow then.
Value LaneCutter::greater_by_halves(Value a, Value b) {
  Type w = pen_.type(a), half = views_.mask_type(Type::integer(w.bits() / 2));
  Value x = views_.bits(pen_, a, half), y = views_.bits(pen_, b, half);
  Value less = views_.bits(pen_, pen_.sub(b, a), half);
  Value sign = pen_.or_(pen_.and_(less, mask(Op::Eq, x, y)), mask(Op::GtS, x, y));
  sign = pen_.shuffle(sign, sign, upper_halves(half));
  return views_.bits(pen_, pen_.shr_s(sign, half.bits() - 1), w);
}

// Whether `mask` can say a comparison of these lanes in what the book covers.
bool LaneCutter::maskable(Op op, Type w) const {
  if (is_direct(op, w)) return true;
  const Relatives* r = relatives_of(op);
  if (!r) return false;
  for (Op o : {r->mirrored, r->opposite, relatives_of(r->opposite)->mirrored})
    if (is_direct(o, w)) return true;
  return signed_op(op) != op && maskable(signed_op(op), w);
}

Value LaneCutter::mask(Op op, Value a, Value b) {
  Type w = pen_.type(a), m = views_.mask_type(w);
  auto direct = [&](Op o, Value x, Value y) {
    if (!coverage_.mask(o, w)) return greater_by_halves(x, y);
    return pen_.make(Op::Neg, {pen_.make(Op::WidenU, {pen_.make(o, {x, y})}, m)});
  };
  if (is_direct(op, w)) return direct(op, a, b);
  const Relatives* r = relatives_of(op);
  if (is_direct(r->mirrored, w)) return direct(r->mirrored, b, a);
  bool is_unsigned = signed_op(op) != op;
  // a <= b where the smaller of both is a.
  if (is_unsigned && coverage_.mask(Op::Eq, w)) {
    bool less = op == Op::LtU || op == Op::LeU;
    for (auto [pick, upwards] : {std::pair(Op::MinU, true), std::pair(Op::MaxU, false)}) {
      if (!coverage_.covers(pick, w, w)) continue;
      // op is one of x <= y and not (y <= x), with x and y in one order or the other.
      bool direct_order = op == Op::LeU || op == Op::GeU;
      Value x = less == direct_order ? a : b, y = less == direct_order ? b : a;
      Value same = direct(Op::Eq, pen_.make(pick, {x, y}), upwards ? x : y);
      return direct_order ? same : pen_.make(Op::Not, {same});
    }
  }
  if (is_direct(r->opposite, w) || is_direct(relatives_of(r->opposite)->mirrored, w))
    return pen_.make(Op::Not, {mask(r->opposite, a, b)});
  Value sign = f_.constant(w, Bits(1) << (w.bits() - 1));
  return mask(signed_op(op), pen_.xor_(a, sign), pen_.xor_(b, sign));
}

void LaneCutter::compare(Instruction i) {
  Value a = f_.operand(i, 0), b = f_.operand(i, 1);
  Type w = views_.whole(f_.type(a));
  if (!masks_ || !w.exists() || all_scalars(i) || !maskable(f_.op(i), w)) return lane_by_lane(i);
  Parts x = views_.chunks(a), y = views_.chunks(b), out;
  for (size_t k = 0; k < x.size(); ++k) out.push_back(mask(f_.op(i), x[k], y[k]));
  now_masks(f_.result(i), w.bits(), out);
}

// ---- what the book has no single rule for -----------------------------------------------------------------

bool LaneCutter::other_ways(Instruction i, Type w) {
  switch (f_.op(i)) {
    case Op::MinS:
    case Op::MinU:
    case Op::MaxS:
    case Op::MaxU: return by_comparison(i, w);
    case Op::Abs: return w.is_integer() && by_comparison(i, w);
    case Op::Mul: return w.is_integer() && product(i, w);
    case Op::MulHiS:
    case Op::MulHiU: return high_product(i, w);
    case Op::Shl:
    case Op::ShrU:
    case Op::ShrS:
    case Op::RotL:
    case Op::RotR: return shift(i, w);
    case Op::Popcount:
    case Op::Ctz:
    case Op::Clz: return count_bits(i, w);
    case Op::ReverseBytes: return reverse_bytes(i, w);
    default: return false;
  }
}

// The same for each chunk.
bool LaneCutter::each_chunk(Instruction i, const std::function<Value(Value)>& make) {
  Parts out;
  for (Value x : views_.chunks(f_.operand(i, 0)))
    if (out.push_back(make(x)); !out.back().exists()) return false;
  return now_chunks(f_.result(i), out), true;
}
bool LaneCutter::each_pair(Instruction i, const std::function<Value(Value, Value)>& make) {
  Parts a = views_.chunks(f_.operand(i, 0)), b = views_.chunks(f_.operand(i, 1)), out;
  for (size_t k = 0; k < a.size(); ++k) out.push_back(make(a[k], b[k]));
  return now_chunks(f_.result(i), out), true;
}

// The smaller and the larger of two, the larger of a value and its negative.
bool LaneCutter::by_comparison(Instruction i, Type w) {
  Op op = f_.op(i);
  bool is_abs = op == Op::Abs;
  Op compare = op == Op::MinS ? Op::LtS : op == Op::MinU ? Op::LtU : op == Op::MaxU ? Op::GtU : Op::GtS;
  if (!masks_ || !maskable(compare, w)) return false;
  auto better = [&](Value x, Value y) { return chosen(mask(compare, x, y), x, y); };
  if (!is_abs) return each_pair(i, better);
  return each_chunk(i, [&](Value x) { return better(x, pen_.make(Op::Sub, {f_.constant(w, 0), x})); });
}

// ---- conversions ------------------------------------------------------------------------------------------

void LaneCutter::convert(Instruction i) {
  Value v = f_.operand(i, 0), r = f_.result(i);
  Type from = f_.type(v), to = f_.type(r), a = views_.whole(from), b = views_.whole(to);
  if (from.is_bool() && b.exists() && masks_ && views_.has_masks(v)) {
    Parts out;
    for (Value m : views_.masks(v, b.bits())) out.push_back(pen_.and_(m, Bits(1)));
    return now_chunks(r, out);
  }
  bool done = a.exists() && b.exists() && !views_.is_scalar(v) && convert_chunks(i, a, b);
  if (!done) lane_by_lane(i);
}

bool LaneCutter::convert_chunks(Instruction i, Type a, Type b) {
  Op op = f_.op(i);
  if (a.lanes() == b.lanes() && coverage_.covers(op, a, b)) return chunk_by_chunk(i, a, b), true;
  if (a.is_integer() && b.is_integer()) return convert_whole(i, a, b);
  if (op == Op::ToFloatU && a.lanes() == b.lanes() && coverage_.covers(Op::ToFloatS, a, b) &&
      coverage_.by_constant(Op::ShrU, a))
    return each_chunk(i, [&](Value x) { return float_of_halves(x, b); });
  return convert_float(i, a, b);
}

// Integers become twice as wide, or half, as often as it takes.
bool LaneCutter::convert_whole(Instruction i, Type a, Type b) {
  Op op = f_.op(i);
  if (!masks_ || (op == Op::WidenS && !maskable(Op::LtS, a))) return false;
  for (Type w = a; w.bits() < b.bits() && op == Op::WidenS; w = views_.mask_type(Type::integer(2 * w.bits())))
    if (!maskable(Op::LtS, w)) return false;
  unsigned lanes = f_.type(f_.result(i)).lanes();
  Parts v = views_.chunks(f_.operand(i, 0));
  while (pen_.type(v[0]).bits() < b.bits()) {
    Type w = pen_.type(v[0]);
    Parts upper(v.size(), f_.constant(w, 0));
    if (op == Op::WidenS)
      for (size_t k = 0; k < v.size(); ++k) upper[k] = mask(Op::LtS, v[k], f_.constant(w, 0));
    v = views_.doubled(pen_, v, upper, lanes);
  }
  while (pen_.type(v[0]).bits() > b.bits()) v = views_.halved(pen_, v, lanes);
  now_chunks(f_.result(i), v);
  return true;
}

// Both halves are exact as floats, and so is the upper one in its place: only their sum is rounded.
Value LaneCutter::float_of_halves(Value x, Type to) {
  unsigned half = pen_.type(x).bits() / 2;
  auto floats = [&](Value v) { return pen_.make(Op::ToFloatS, {v}, to); };
  Value high = floats(pen_.shr_u(x, half)), low = floats(pen_.and_(x, mask_of(half)));
  Value place = pen_.real(to, std::ldexp(1.0, static_cast<int>(half)));
  return pen_.add(pen_.mul(high, place), low);
}

// To twice as wide lanes from the lower half, to half as wide ones from two.
bool LaneCutter::convert_float(Instruction i, Type a, Type b) {
  Op op = f_.op(i);
  unsigned lanes = f_.type(f_.result(i)).lanes();
  Parts out, in = views_.chunks(f_.operand(i, 0));
  if (a.lanes() == 2 * b.lanes() && coverage_.of_low(op, a, b)) {
    std::vector<uint16_t> low(b.lanes()), high(a.lanes());
    for (unsigned k = 0; k < a.lanes(); ++k) {
      if (k < b.lanes()) low[k] = static_cast<uint16_t>(k);
      high[k] = static_cast<uint16_t>(k < b.lanes() ? k + b.lanes() : k);
    }
    if (!coverage_.shuffle(a, true, high)) return false;
    for (Value x : in)
      for (bool upper : {false, true}) {
        if (out.size() * b.lanes() >= lanes) break;
        Value from = upper ? pen_.shuffle(x, x, high) : x;
        out.push_back(pen_.make(op, {pen_.shuffle(from, from, low)}, b));
      }
    return now_chunks(f_.result(i), out), true;
  }
  if (2 * a.lanes() != b.lanes() || !coverage_.joined(op, a, b)) return false;
  std::vector<uint16_t> all(b.lanes());
  for (unsigned k = 0; k < b.lanes(); ++k) all[k] = static_cast<uint16_t>(k);
  for (size_t k = 0; k < in.size(); k += 2) {
    Type half = b.with_lanes(a.lanes());
    Value x = pen_.make(op, {in[k]}, half), y = pen_.make(op, {in[std::min(k + 1, in.size() - 1)]}, half);
    out.push_back(pen_.shuffle(x, y, all));
  }
  return now_chunks(f_.result(i), out), true;
}

// ---- bits -------------------------------------------------------------------------------------------------

void LaneCutter::bits(Instruction i) {
  Value from = f_.operand(i, 0), to = f_.result(i);
  Type a = f_.type(from), b = f_.type(to);
  if (bits_by_chunks(i, a, b)) return;
  // Each target lane is put together from the source lanes it meets.
  Parts in = a.has_lanes() ? views_.scalars(from) : Parts{from}, out;
  for (Value& v : in)
    if (a.is_float()) v = pen_.bits(v, Type::integer(a.bits()));
  for (unsigned k = 0; k < b.lanes(); ++k) out.push_back(gathered(in, a.bits(), k * b.bits(), b));
  now_scalars(to, out);
}

// Registers hand their bits on; scalars come and go by way of words.
bool LaneCutter::bits_by_chunks(Instruction i, Type a, Type b) {
  Value from = f_.operand(i, 0), r = f_.result(i);
  Type x = views_.whole(a), y = views_.whole(b), words = views_.mask_type(i64);
  if (a.is_bool() || b.is_bool() || !words.exists()) return false;
  Parts out;
  if (a.has_lanes() && b.has_lanes()) {
    if (!x.exists() || !y.exists() || views_.is_scalar(from)) return false;
    for (Value v : views_.chunks(from)) out.push_back(views_.bits(pen_, v, y));
    return now_chunks(r, out), true;
  }
  if (b.has_lanes()) {
    if (!y.exists() || b.total_bits() > words.total_bits()) return false;
    Type carried = a.is_float() ? views_.whole(a) : Type();
    if (carried.exists())
      return now_chunks(r, {views_.bits(pen_, pen_.convert(Op::Splat, carried, from), y)}), true;
    Value v = a.is_float() ? pen_.bits(from, Type::integer(a.bits())) : from;
    Parts parts{pen_.resized(v, i64)};
    if (a.bits() > 64) parts.push_back(pen_.narrow(pen_.shr_u(v, 64), i64));
    return now_chunks(r, {views_.bits(pen_, views_.put_together(pen_, words, parts), y)}), true;
  }
  if (!x.exists() || views_.is_scalar(from) || a.total_bits() > words.total_bits()) return false;
  if (Type carried = b.is_float() ? views_.whole(b) : Type(); carried.exists())
    return replaced(r, views_.lane(pen_, views_.bits(pen_, views_.chunks(from)[0], carried), 0)), true;
  Value all = views_.bits(pen_, views_.chunks(from)[0], words), v = views_.lane(pen_, all, 0);
  Type whole = Type::integer(b.bits());
  if (b.bits() > 64) {
    v = pen_.or_(pen_.shl(pen_.widen_u(views_.lane(pen_, all, 1), i128), 64), pen_.widen_u(v, i128));
    v = pen_.narrow(v, whole);
  } else {
    v = pen_.narrow(v, whole);
  }
  return replaced(r, pen_.bits(v, b)), true;
}

Value LaneCutter::gathered(const Parts& in, unsigned width, unsigned start, Type to) {
  Type whole = to.is_float() ? Type::integer(to.bits()) : to.element();
  Value sum;
  for (unsigned k = start / width; k * width < start + to.bits() && k < in.size(); ++k) {
    Value v = in[k];
    bool is_bool = f_.type(v).is_bool();
    unsigned low = std::max(start, k * width) - k * width;  // the first bit of this lane that is wanted
    unsigned at = k * width + low - start;                  // and where it goes
    if (whole.is_bool()) {
      if (is_bool) return v;
      return pen_.ne(pen_.and_(pen_.shr_u(v, low), Bits(1)), Bits(0));
    }
    if (!is_bool && low) v = pen_.shr_u(v, low);
    v = is_bool ? pen_.widen_u(v, whole) : pen_.resized(v, whole);
    if (at) v = pen_.shl(v, at);
    sum = sum.exists() ? pen_.or_(sum, v) : v;
  }
  return to.is_float() ? pen_.bits(sum, to.element()) : sum;
}

}  // namespace porphyry::machine
