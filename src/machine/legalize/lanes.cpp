// lanes: a value with lanes becomes values that registers hold: full registers of its element where the book
// covers what is done with it, as scalars or as masks where it does not. Which form a value is in is known
// for each value (lane_views.h); it changes only where an operation asks for another. O(lanes of what comes
// out).
#include "lanes.h"

#include <algorithm>
#include <numeric>

#include "porphyry/ir/compute.h"
#include "state.h"

namespace porphyry::machine {
namespace {

using types::i64;

bool masks_work(const LaneViews& views) {
  for (unsigned width : {8, 16, 32, 64}) {
    Type w = views.mask_type(Type::integer(width));
    if (!w.exists() || (width < 64 && !views.may_double(w)) || (width > 8 && !views.may_halve(w)))
      return false;
  }
  return true;
}

// The lanes from `half` on in the places of the lowest; the rest stays.
std::vector<uint16_t> brought_down(unsigned lanes, unsigned half) {
  std::vector<uint16_t> out(lanes);
  for (unsigned k = 0; k < lanes; ++k) out[k] = static_cast<uint16_t>(k < half ? k + half : k);
  return out;
}

}  // namespace

LaneCutter::LaneCutter(Module& module, Function& f, const Coverage& coverage)
    : Splitter(module, f),
      coverage_(coverage),
      views_(module, f, coverage),
      masks_(masks_work(views_)),
      pointer_(module.pointer_type()) {}

// What only hands whole registers on stays as it is.
bool LaneCutter::touched(Instruction i) const {
  if (Splitter::touched(i)) return true;
  const OperationInfo& row = info(f_.op(i));
  if (row.calls() || row.ends_block()) return false;
  if (f_.op(i) == Op::Load || f_.op(i) == Op::Store) return f_.address(i).masked;
  bool lanes = false;
  for (Value v : f_.operands(i)) lanes |= f_.type(v).has_lanes();
  for (Value v : f_.results(i)) lanes |= f_.type(v).has_lanes();
  return lanes;
}

std::vector<Type> LaneCutter::parts_of(Type t) const {
  Type w = passes_masks(t) ? views_.mask_type(Type::integer(views_.usual_width(t))) : views_.whole(t);
  if (w.exists()) return std::vector<Type>(LaneViews::count(t, w), w);
  return std::vector<Type>(t.lanes(), t.element());
}

Parts LaneCutter::passed(Value v) {
  Type t = f_.type(v);
  if (passes_masks(t)) return views_.masks(v, views_.usual_width(t));
  return views_.whole(t).exists() ? views_.chunks(v) : views_.scalars(v);
}

// A block's parameter.
void LaneCutter::became(Value v, const Parts& parts) {
  Type t = f_.type(v);
  views_.at(f_.first(f_.defining_block(v)));
  if (passes_masks(t))
    views_.are_masks(v, views_.usual_width(t), parts);
  else if (views_.whole(t).exists())
    views_.are_chunks(v, parts);
  else
    views_.are_scalars(v, parts);
  name_parts(v, parts);
}

void LaneCutter::now_chunks(Value v, Parts chunks) {
  if (!goes(v)) return replaced(v, chunks[0]);
  name_parts(v, chunks);
  views_.are_chunks(v, std::move(chunks));
}

// A value whose type stays is put together at once: what is kept may use it.
void LaneCutter::now_scalars(Value v, Parts scalars) {
  if (!f_.type(v).has_lanes()) return replaced(v, scalars[0]);
  if (!goes(v)) return replaced(v, views_.put_together(pen_, f_.type(v), scalars));
  name_parts(v, scalars);
  views_.are_scalars(v, std::move(scalars));
}

void LaneCutter::now_masks(Value v, unsigned width, Parts masks) {
  name_parts(v, masks);
  views_.are_masks(v, width, std::move(masks));
}

bool LaneCutter::all_scalars(Instruction i) const {
  bool all = true;
  for (size_t k = 0; k < f_.operand_count(i); ++k) {
    Value v = f_.operand(i, k);
    if (f_.type(v).has_lanes()) all &= views_.is_scalar(v);
  }
  return all;
}

void LaneCutter::instruction(Instruction i) {
  views_.at(i);
  switch (info(f_.op(i)).layout) {
    case Layout::Splat: return splat(i);
    case Layout::Lane: return lane(i);
    case Layout::Put: return put(i);
    case Layout::Shuffle: {
      std::vector<uint16_t> order;
      for (unsigned k = 0; k < f_.type(f_.result(i)).lanes(); ++k) order.push_back(f_.shuffle_lane(i, k));
      return shuffle(i, order);
    }
    case Layout::Interleave: return interleave(i);
    case Layout::Reduce: return reduce(i);
    case Layout::Load: return load(i);
    case Layout::Store: return store(i);
    case Layout::Pair:
    case Layout::Carry: return lane_by_lane(i);
    default: return plain(i);
  }
}

void LaneCutter::splat(Instruction i) {
  Value v = f_.operand(i, 0), r = f_.result(i);
  Type t = f_.type(r), w = views_.whole(t);
  if (passes_masks(t)) {
    unsigned width = views_.usual_width(t);
    Type m = views_.mask_type(Type::integer(width));
    Value all = pen_.convert(Op::Splat, m, views_.flag(pen_, v, m.element()));
    return now_masks(r, width, Parts(LaneViews::count(t, m), all));
  }
  if (!w.exists()) return now_scalars(r, Parts(t.lanes(), v));
  Value all = f_.is_constant(v) ? f_.constant(w, f_.constant_word(v)) : pen_.convert(Op::Splat, w, v);
  now_chunks(r, Parts(LaneViews::count(t, w), all));
}

// The number of a lane, which counts modulo the lanes.
Value LaneCutter::modulo(Value index, unsigned lanes) {
  Type t = f_.type(index);
  if (mask_of(t.bits()) < lanes) return index;
  if ((lanes & (lanes - 1)) == 0) return pen_.and_(index, Bits(lanes - 1));
  return pen_.make(Op::RemU, {index, pen_.number(t, lanes)}, t, promise::nonzero);
}

// Lanes by a number that only the run knows go through the frame.
Value LaneCutter::in_memory(const Parts& chunks) {
  unsigned bytes = pen_.type(chunks[0]).bytes();
  Value& room = rooms_[chunks.size()];
  if (!room.exists())
    room = f_.result(
        f_.insert_before(f_.first(f_.entry()), {.op = Op::Reserve,
                                                .results = {&pointer_, 1},
                                                .detail = f_.add_reserve({bytes * chunks.size(), 16})}));
  for (size_t k = 0; k < chunks.size(); ++k)
    pen_.store(chunks[k], {.offset = int64_t(k) * bytes, .align = bytes}, {&room, 1});
  return room;
}

void LaneCutter::lane(Instruction i) {
  Value v = f_.operand(i, 0), r = f_.result(i);
  Type t = f_.type(v), w = views_.whole(t);
  Value index = modulo(f_.operand(i, 1), t.lanes());
  if (f_.is_constant(index)) {
    unsigned k = static_cast<unsigned>(f_.constant_bits(index));
    if (!w.exists() || views_.is_scalar(v)) return replaced(r, views_.scalars(v)[k]);
    return replaced(r, views_.lane(pen_, views_.chunks(v)[k / w.lanes()], k % w.lanes()));
  }
  if (w.exists() && !views_.is_scalar(v)) {
    Value operands[] = {in_memory(views_.chunks(v)), pen_.resized(index, i64)};
    return replaced(r, pen_.load(t.element(), {.scale = t.element_bytes(), .indexed = true}, operands));
  }
  Parts from = views_.scalars(v);
  Value x = from[0];
  for (unsigned k = 1; k < from.size() && reachable(index, k); ++k)
    x = pen_.pick(pen_.eq(index, pen_.number(f_.type(index), k)), from[k], x);
  replaced(r, x);
}

void LaneCutter::put(Instruction i) {
  Value v = f_.operand(i, 0), x = f_.operand(i, 2), r = f_.result(i);
  Type t = f_.type(v), w = views_.whole(t);
  Value index = modulo(f_.operand(i, 1), t.lanes());
  bool is_constant = f_.is_constant(index),
       by_chunks = w.exists() && (!views_.is_scalar(v) || f_.is_constant(v));
  if (is_constant && by_chunks) {
    unsigned k = static_cast<unsigned>(f_.constant_bits(index));
    Parts chunks = views_.chunks(v);
    chunks[k / w.lanes()] = views_.put(pen_, chunks[k / w.lanes()], k % w.lanes(), x);
    return now_chunks(r, chunks);
  }
  if (by_chunks) {
    Parts chunks = views_.chunks(v);
    Value room = in_memory(chunks), operands[] = {room, pen_.resized(index, i64)};
    pen_.store(x, {.scale = t.element_bytes(), .indexed = true}, operands);
    for (size_t k = 0; k < chunks.size(); ++k)
      chunks[k] = pen_.load(w, {.offset = int64_t(k) * w.bytes(), .align = w.bytes()}, {&room, 1});
    return now_chunks(r, chunks);
  }
  Parts lanes = views_.scalars(v);
  for (unsigned k = 0; k < lanes.size() && reachable(index, k); ++k)
    lanes[k] = pen_.pick(pen_.eq(index, pen_.number(f_.type(index), k)), x, lanes[k]);
  now_scalars(r, lanes);
}

void LaneCutter::interleave(Instruction i) {
  unsigned lanes = f_.type(f_.operand(i, 0)).lanes();
  std::vector<uint16_t> order;
  for (unsigned k = 0; k < lanes; ++k)
    order.push_back(static_cast<uint16_t>(k)), order.push_back(static_cast<uint16_t>(k + lanes));
  shuffle(i, order);
}

void LaneCutter::shuffle(Instruction i, std::span<const uint16_t> order) {
  Value a = f_.operand(i, 0), b = f_.operand(i, 1), r = f_.result(i);
  Type t = f_.type(a), w = views_.whole(t);
  if (t.is_bool() && masks_ && (views_.has_masks(a) || views_.has_masks(b)))
    w = views_.mask_type(Type::integer(views_.mask_width(views_.has_masks(a) ? a : b)));
  if (w.exists() && !all_scalars(i) && shuffle_chunks(i, w, order)) return;
  Parts from = views_.scalars(a), more = views_.scalars(b), out;
  from.insert(from.end(), more.begin(), more.end());
  for (uint16_t k : order) out.push_back(from[k]);
  now_scalars(r, out);
}

// All lanes of both values, chunk by chunk, and where each lane of the result lies in them.
bool LaneCutter::shuffle_chunks(Instruction i, Type w, std::span<const uint16_t> order) {
  Value a = f_.operand(i, 0), b = f_.operand(i, 1), r = f_.result(i);
  bool bools = f_.type(a).is_bool();
  unsigned lanes = f_.type(a).lanes(), padded = LaneViews::count(f_.type(a), w) * w.lanes();
  Parts from = bools ? views_.masks(a, w.bits()) : views_.chunks(a),
        more = bools ? views_.masks(b, w.bits()) : views_.chunks(b), out;
  from.insert(from.end(), more.begin(), more.end());
  for (size_t at = 0; at < order.size(); at += w.lanes()) {
    std::vector<uint16_t> places;
    for (unsigned k = 0; k < w.lanes(); ++k) {
      unsigned lane = order[std::min(at + k, order.size() - 1)];
      places.push_back(static_cast<uint16_t>(lane < lanes ? lane : lane - lanes + padded));
    }
    out.push_back(gathered_chunk(from, w, places));
    if (!out.back().exists()) return false;
  }
  bools ? now_masks(r, w.bits(), out) : now_chunks(r, out);
  return true;
}

// One register of lanes from several, two at a time; nothing where the book does not cover it.
Value LaneCutter::gathered_chunk(const Parts& from, Type w, std::span<const uint16_t> places) {
  unsigned n = w.lanes();
  Parts sources;  // each once
  std::vector<size_t> source_of;
  for (uint16_t p : places) {
    auto known = std::find(sources.begin(), sources.end(), from[p / n]);
    source_of.push_back(static_cast<size_t>(known - sources.begin()));
    if (known == sources.end()) sources.push_back(from[p / n]);
  }
  bool of_one = sources.size() == 1, in_place = of_one;
  for (unsigned k = 0; k < n; ++k) in_place &= places[k] % n == k;
  if (in_place) return sources[0];
  Value v = sources[0];
  std::vector<uint16_t> order(n);
  for (size_t s = 1; s < std::max<size_t>(sources.size(), 2); ++s) {
    for (unsigned k = 0; k < n; ++k) {
      unsigned lane = places[k] % n;
      // What came before is in place from the second step on; what comes later is anything.
      bool fresh = source_of[k] == s, first = source_of[k] == 0 && s == 1;
      order[k] = static_cast<uint16_t>(fresh ? lane + n : first ? lane : k);
    }
    Value second = of_one ? v : sources[s];
    v = shuffled(v, second, order);
    if (!v.exists()) return {};
  }
  return v;
}

// Of full registers; nothing where the book does not cover it. Neighbours that stay neighbours are moved as
// one wider lane: for those, code is shorter.
Value LaneCutter::shuffled(Value a, Value b, std::span<const uint16_t> order) {
  const Type t = pen_.type(a), wide = t.bits() < 64 ? views_.whole(Type::integer(2 * t.bits())) : Type();
  std::vector<uint16_t> pairs;
  for (size_t k = 0; k + 1 < order.size(); k += 2)
    if (order[k] % 2 == 0 && order[k + 1] == order[k] + 1) pairs.push_back(order[k] / 2);
  if (wide.exists() && 2 * pairs.size() == order.size()) {
    const Value x = views_.bits(pen_, a, wide), y = a == b ? x : views_.bits(pen_, b, wide);
    if (const Value moved = shuffled(x, y, pairs); moved.exists()) return views_.bits(pen_, moved, t);
  }
  return coverage_.shuffle(t, a == b, order) ? pen_.shuffle(a, b, order) : Value();
}

void LaneCutter::reduce(Instruction i) {
  Op join = joining_op(f_.op(i));
  if (reduce_chunks(i, join)) return;
  Parts from = views_.scalars(f_.operand(i, 0));
  Value v = from[0];
  for (size_t k = 1; k < from.size(); ++k) v = pen_.make(join, {v, from[k]}, {}, 0, f_.permits(i));
  replaced(f_.result(i), v);
}

// The order of joining shows only in sums and products of floats.
bool LaneCutter::reduce_chunks(Instruction i, Op join) {
  Value v = f_.operand(i, 0);
  Type t = f_.type(v), w = views_.whole(t);
  bool ordered = t.is_float() && (join == Op::Add || join == Op::Mul) && !(f_.permits(i) & permit::reorder);
  if (ordered || views_.is_scalar(v)) return false;
  if (t.is_bool()) {
    if (!masks_ || !views_.has_masks(v)) return false;
    unsigned width = views_.mask_width(v), lanes = views_.mask_type(Type::integer(width)).lanes();
    if (t.lanes() % lanes) return false;
    Value all = all_in_one(views_.masks(v, width), join, 0);
    replaced(f_.result(i), join == Op::Or ? pen_.ne(all, Bits(0)) : pen_.eq(all, pen_.number(i64, ~Bits(0))));
    return true;
  }
  if (!w.exists() || t.lanes() % w.lanes() || !coverage_.covers(join, w, w)) return false;
  for (unsigned half = w.lanes() / 2; half; half /= 2)
    if (!coverage_.shuffle(w, true, brought_down(w.lanes(), half))) return false;
  replaced(f_.result(i), all_in_one(views_.chunks(v), join, f_.permits(i)));
  return true;
}

// Chunks become one, that is folded over itself until one lane has it all.
Value LaneCutter::all_in_one(Parts chunks, Op join, uint8_t permits) {
  while (chunks.size() > 1) {
    Parts next;
    for (size_t k = 0; k + 1 < chunks.size(); k += 2)
      next.push_back(pen_.make(join, {chunks[k], chunks[k + 1]}, {}, 0, permits));
    if (chunks.size() % 2) next.push_back(chunks.back());
    chunks = std::move(next);
  }
  Value v = chunks[0];
  Type w = pen_.type(v);
  if (join == Op::And || join == Op::Or) {  // of masks: in words
    v = views_.bits(pen_, v, views_.mask_type(i64));
    Value all = views_.lane(pen_, v, 0);
    for (unsigned k = 1; k < pen_.type(v).lanes(); ++k) all = pen_.make(join, {all, views_.lane(pen_, v, k)});
    return all;
  }
  for (unsigned half = w.lanes() / 2; half; half /= 2)
    v = pen_.make(join, {v, pen_.shuffle(v, v, brought_down(w.lanes(), half))}, {}, 0, permits);
  return views_.lane(pen_, v, 0);
}

// Most functions have no lanes: for them not even the book is asked.
namespace legal {
void lanes(FunctionContext& c) {
  const Function& f = c.function;
  for (size_t k = 0; k < f.value_limit(); ++k)
    if (f.type(Value(k)).has_lanes()) return LaneCutter(c.module, c.function, state(c).coverage).run();
}
}  // namespace legal

}  // namespace porphyry::machine
