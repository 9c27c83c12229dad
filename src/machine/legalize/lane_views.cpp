#include "lane_views.h"

#include <bit>

#include "porphyry/ir/compute.h"
#include "porphyry/print/literals.h"

namespace porphyry::machine {
namespace {

// 0, n, 1, n + 1, …: the lower lanes of two values in turn, or the upper ones.
std::vector<uint16_t> in_turn(unsigned lanes, bool upper) {
  std::vector<uint16_t> out;
  for (unsigned k = 0; k < lanes / 2; ++k) {
    unsigned from = k + (upper ? lanes / 2 : 0);
    out.push_back(static_cast<uint16_t>(from));
    out.push_back(static_cast<uint16_t>(from + lanes));
  }
  return out;
}

std::vector<uint16_t> every_second(unsigned lanes) {
  std::vector<uint16_t> out;
  for (unsigned k = 0; k < lanes; ++k) out.push_back(static_cast<uint16_t>(2 * k));
  return out;
}

Type twice(Type t) { return Type::integer(2 * t.bits()).with_lanes(t.lanes() / 2); }
Type half(Type t) { return Type::integer(t.bits() / 2).with_lanes(t.lanes() * 2); }

}  // namespace

LaneViews::LaneViews(Module& module, Function& f, const Coverage& coverage)
    : coverage_(coverage), f_(f), pen_(module, f) {}

Type LaneViews::whole(Type t) const { return t.is_bool() ? Type() : coverage_.whole(t.element()); }

unsigned LaneViews::usual_width(Type bools) const {
  Type bytes = coverage_.whole(Type::integer(8));
  if (!bytes.exists()) return 0;
  unsigned lanes = std::max(2u, std::bit_ceil(bools.lanes()));
  return lanes >= bytes.lanes() ? 8 : std::min(64u, 8 * bytes.lanes() / lanes);
}

LaneViews::Row& LaneViews::row(Value v) {
  uint32_t n = numbers_.get(v);
  if (n == 0) {
    rows_.push_back(std::make_unique<Row>());
    rows_.back()->anchor = here_;
    numbers_.set(v, n = static_cast<uint32_t>(rows_.size()));
  }
  return *rows_[n - 1];
}

const LaneViews::Row* LaneViews::known(Value v) const {
  uint32_t n = numbers_.get(v);
  return n ? rows_[n - 1].get() : nullptr;
}

// A value that stays as it is: one chunk. What is made of it stands right behind its definition.
LaneViews::Row& LaneViews::row_of_kept(Value v) {
  if (numbers_.get(v)) return row(v);
  Instruction d = f_.definition(v), here = here_;
  here_ = d.exists() ? f_.next(d) : f_.first(f_.defining_block(v));
  Row& r = row(v);
  here_ = here;
  r.chunks = {v};
  return r;
}

bool LaneViews::is_scalar(Value v) const {
  if (f_.is_constant(v)) return true;
  const Row* r = known(v);
  return r && r->chunks.empty() && r->masks.empty();
}

bool LaneViews::has_masks(Value v) const {
  const Row* r = known(v);
  return r && !r->masks.empty();
}

unsigned LaneViews::mask_width(Value v) const {
  const Row* r = known(v);
  return r && !r->masks.empty() ? r->masks.begin()->first : usual_width(f_.type(v));
}

// The last lane fills what is left of the last chunk.
template <class Lane>
Parts LaneViews::constant_chunks(Type t, Type w, Lane lane) const {
  Parts out;
  for (unsigned from = 0; from < t.lanes(); from += w.lanes()) {
    std::vector<uint64_t> words;
    for (unsigned k = 0; k < w.lanes(); ++k)
      words.push_back(static_cast<uint64_t>(lane(std::min(from + k, t.lanes() - 1))));
    out.push_back(f_.constant_lanes(w, words));
  }
  return out;
}

Parts LaneViews::chunks(Value v) {
  Type t = f_.type(v), w = whole(t);
  if (f_.is_constant(v)) return constant_chunks(t, w, [&](unsigned k) { return f_.constant_word(v, k); });
  Row& r = t == w ? row_of_kept(v) : row(v);
  if (r.chunks.empty()) {
    pen_.before(r.anchor).from({});
    r.chunks = made_of_scalars(w, scalars(v));
  }
  return r.chunks;
}

Parts LaneViews::scalars(Value v) {
  Type t = f_.type(v), w = whole(t);
  Parts out;
  if (f_.is_constant(v)) {
    for (unsigned k = 0; k < t.lanes(); ++k) out.push_back(f_.constant(t.element(), f_.constant_word(v, k)));
    return out;
  }
  Row& r = t == w ? row_of_kept(v) : row(v);
  if (!r.scalars.empty()) return r.scalars;
  const Parts& from = t.is_bool() && !r.masks.empty() ? r.masks.begin()->second : r.chunks;
  if (from.empty()) return Parts(t.lanes(), f_.constant(t.element(), 0));  // defined where no run comes
  pen_.before(r.anchor).from({});
  unsigned lanes = pen_.type(from[0]).lanes();
  for (unsigned k = 0; k < t.lanes(); ++k) {
    Value x = lane(pen_, from[k / lanes], k % lanes);
    out.push_back(t.is_bool() ? pen_.ne(x, Bits(0)) : x);
  }
  return r.scalars = out;
}

Parts LaneViews::masks(Value v, unsigned width) {
  if (f_.is_constant(v))
    return constant_chunks(f_.type(v), mask_type(Type::integer(width)),
                           [&](unsigned k) { return f_.constant_word(v, k) ? mask_of(width) : Bits(0); });
  Row& r = row(v);
  if (auto known = r.masks.find(width); known != r.masks.end()) return known->second;
  unsigned lanes = f_.type(v).lanes();
  if (!r.masks.empty()) return resized_masks(r, lanes, width);
  Type w = mask_type(Type::integer(width));
  Parts flags;
  Parts bools = scalars(v);
  pen_.before(r.anchor).from({});
  for (Value b : bools) flags.push_back(flag(pen_, b, w.element()));
  return r.masks[width] = made_of_scalars(w, flags);
}

// By way of all widths between.
Parts LaneViews::resized_masks(Row& r, unsigned lanes, unsigned width) {
  unsigned at = r.masks.begin()->first;
  for (const auto& [w, parts] : r.masks)
    if (std::max(w, width) / std::min(w, width) < std::max(at, width) / std::min(at, width)) at = w;
  pen_.before(r.anchor).from({});
  while (at != width) {
    const Parts& from = r.masks[at];
    Parts next = at < width ? doubled(pen_, from, from, lanes) : halved(pen_, from, lanes);
    at = at < width ? at * 2 : at / 2;
    r.masks[at] = std::move(next);
  }
  return r.masks[width];
}

Parts LaneViews::made_of_scalars(Type w, const Parts& scalars) {
  Parts out;
  for (size_t from = 0; from < scalars.size(); from += w.lanes()) {
    size_t to = std::min(scalars.size(), from + w.lanes());
    out.push_back(
        put_together(pen_, w, Parts(scalars.begin() + ptrdiff_t(from), scalars.begin() + ptrdiff_t(to))));
  }
  return out;
}

// The most frequent way: the first in all lanes, then those that are others.
Value LaneViews::put_together(FoldingPen& pen, Type w, const Parts& scalars) const {
  bool constant = std::all_of(scalars.begin(), scalars.end(), [&](Value v) { return f_.is_constant(v); });
  if (constant) {
    std::vector<uint64_t> words;
    for (unsigned k = 0; k < w.lanes(); ++k)
      words.push_back(f_.constant_bits(scalars[std::min<size_t>(k, scalars.size() - 1)]));
    return f_.constant_lanes(w, words);
  }
  Value v = pen.convert(Op::Splat, w, scalars[0]);
  for (unsigned k = 1; k < scalars.size(); ++k)
    if (scalars[k] != scalars[0]) v = put(pen, v, k, scalars[k]);
  return v;
}

Value LaneViews::lane(FoldingPen& pen, Value chunk, unsigned k) const {
  if (f_.is_constant(chunk)) return f_.constant(pen.type(chunk).element(), f_.constant_word(chunk, k));
  return pen.write(Op::Lane, {chunk, pen.number(Type::integer(64), k)});
}

Value LaneViews::put(FoldingPen& pen, Value chunk, unsigned k, Value scalar) const {
  return pen.write(Op::Put, {chunk, pen.number(Type::integer(64), k), scalar});
}

Value LaneViews::bits(FoldingPen& pen, Value v, Type to) const {
  Type from = pen.type(v);
  if (from == to) return v;
  if (!f_.is_constant(v)) return pen.convert(Op::Bits, to, v);
  Bits all = 0;
  for (unsigned k = 0; k < from.lanes(); ++k) all |= f_.constant_word(v, k) << (k * from.bits());
  return f_.constant_lanes(to, text::lane_words(to, all));
}

Value LaneViews::flag(FoldingPen& pen, Value b, Type lane) const { return pen.neg(pen.widen_u(b, lane)); }

Parts LaneViews::doubled(FoldingPen& pen, const Parts& from, const Parts& upper, unsigned lanes) const {
  Parts out;
  Type t = pen.type(from[0]);
  for (size_t k = 0; k < from.size(); ++k)
    for (bool high : {false, true}) {
      if (out.size() * t.lanes() / 2 >= lanes) break;
      out.push_back(bits(pen, pen.shuffle(from[k], upper[k], in_turn(t.lanes(), high)), twice(t)));
    }
  return out;
}

Parts LaneViews::halved(FoldingPen& pen, const Parts& from, unsigned lanes) const {
  Parts out;
  Type t = half(pen.type(from[0]));
  for (size_t k = 0; k < from.size() && out.size() * t.lanes() < lanes; k += 2) {
    Value a = bits(pen, from[k], t), b = k + 1 == from.size() ? a : bits(pen, from[k + 1], t);
    out.push_back(pen.shuffle(a, b, every_second(t.lanes())));
  }
  return out;
}

bool LaneViews::may_double(Type w) const {
  return mask_type(Type::integer(2 * w.bits())).exists() &&
         coverage_.shuffle(w, false, in_turn(w.lanes(), false)) &&
         coverage_.shuffle(w, false, in_turn(w.lanes(), true));
}

bool LaneViews::may_halve(Type w) const {
  Type t = half(w);
  return coverage_.whole(t.element()).exists() && coverage_.shuffle(t, false, every_second(t.lanes()));
}

}  // namespace porphyry::machine
