#include "porphyry/analyze/rounds.h"

#include "porphyry/analyze/number.h"
#include "porphyry/ir/edit.h"
#include "porphyry/ir/relatives.h"
#include "porphyry/ir/words.h"

namespace porphyry {

std::vector<LoopShape> loop_shapes(const Function& f, const Dominators& dominators, const Loops& loops) {
  std::vector<LoopShape> out;
  SideTable<Block, uint32_t> place;  // of a head's loop in `out`, plus one
  const Blocks& order = dominators.order();
  SideTable<Block, uint32_t> number;  // in the order
  for (size_t k = 0; k < order.size(); ++k) number.set(order[k], static_cast<uint32_t>(k));
  for (size_t k = order.size(); k-- > 0;)
    if (loops.is_header(order[k])) {
      LoopShape loop;
      loop.head = order[k];
      out.push_back(std::move(loop));
      place.set(order[k], static_cast<uint32_t>(out.size()));
    }
  for (Block b : order)
    for (Block h = loops.header(b); h.exists(); h = loops.outer(h)) {
      LoopShape& loop = out[place.get(h) - 1];
      loop.blocks.push_back(b);
      for (Edge e : f.edges(b)) {
        bool back = number.get(f.to(e)) <= number.get(b);
        if (!loops.contains(h, f.to(e)))
          loop.exits.push_back(e);
        else if (back && f.to(e) != h)
          loop.innermost = false;
      }
    }
  for (LoopShape& loop : out) find_ways_in(f, loops, loop);
  return out;
}

void find_ways_in(const Function& f, const Loops& loops, LoopShape& loop) {
  unsigned entries = 0, backs = 0;
  loop.entry = loop.back = {};
  for (Edge e : f.edges_into(loop.head))
    if (loops.contains(loop.head, f.from(e)))
      loop.back = ++backs == 1 ? e : Edge();
    else
      loop.entry = ++entries == 1 ? e : Edge();
}

bool stays_same(const Function& f, const Loops& loops, Block head, Value v) {
  if (f.is_constant(v) || f.kind(v) == ValueKind::Parameter) return true;
  return !loops.contains(head, f.defining_block(v));
}

std::optional<Linear> linear_in(const Function& f, Block head, Value v) {
  Linear out;
  Type t = f.type(v);
  if (!t.is_integer() || t.has_lanes()) return std::nullopt;
  v = given(f, v);
  for (unsigned depth = 0; depth < 8; ++depth) {
    Instruction d = f.definition(v);
    if (!d.exists()) break;
    Op op = f.op(d);
    if (f.operand_count(d) != 2 || !f.is_constant(f.operand(d, 1))) return std::nullopt;
    Bits c = f.constant_word(f.operand(d, 1));
    switch (op) {
      case Op::Add: out.offset += out.scale * c; break;
      case Op::Sub: out.offset -= out.scale * c; break;
      case Op::Mul: out.scale *= c; break;
      case Op::Shl: out.scale <<= static_cast<unsigned>(c % t.bits()); break;
      default: return std::nullopt;
    }
    out.fits_s &= (f.promises(d) & promise::fits_s) != 0;
    out.fits_u &= (f.promises(d) & promise::fits_u) != 0;
    v = given(f, f.operand(d, 0));
  }
  if (f.kind(v) != ValueKind::BlockParameter || f.defining_block(v) != head) return std::nullopt;
  out.parameter = v;
  out.scale &= mask_of(t.bits()), out.offset &= mask_of(t.bits());
  return out;
}

std::optional<Progress> progress_of(const Function& f, const Loops& loops, const LoopShape& loop, Value p) {
  if (!loop.entry.exists() || !loop.back.exists()) return std::nullopt;
  size_t k = f.result_index(p);
  Progress out{.parameter = p, .start = f.argument(loop.entry, k)};
  Value next = given(f, f.argument(loop.back, k));
  out.next = f.definition(next);
  if (!out.next.exists()) return std::nullopt;
  if (f.type(p).is_pointer()) {
    if (f.op(out.next) != Op::At || f.operand(out.next, 0) != p || f.address(out.next).indexed)
      return std::nullopt;
    out.bytes = f.address(out.next).offset;
    return out;
  }
  if (auto linear = linear_in(f, loop.head, next); linear && linear->parameter == p && linear->scale == 1) {
    // The operand's own constant where it is the only sum; another one cannot be made here.
    if (f.operand(out.next, 0) != p || f.op(out.next) != Op::Add) return std::nullopt;
    out.step = f.operand(out.next, 1);
    out.fits_s = linear->fits_s, out.fits_u = linear->fits_u;
    return out;
  }
  if (f.op(out.next) != Op::Add || !f.type(p).is_integer() || f.type(p).has_lanes()) return std::nullopt;
  unsigned at = f.operand(out.next, 0) == p ? 0 : 1;
  if (f.operand(out.next, at) != p || !stays_same(f, loops, loop.head, f.operand(out.next, 1 - at)))
    return std::nullopt;
  out.step = f.operand(out.next, 1 - at);
  out.fits_s = (f.promises(out.next) & promise::fits_s) != 0;
  out.fits_u = (f.promises(out.next) & promise::fits_u) != 0;
  return out;
}

namespace {

int64_t signed_of(Bits b, unsigned width) {
  return static_cast<int64_t>(static_cast<uint64_t>(b) << (64 - width)) >> (64 - width);
}

// Whether each round brings what is compared nearer to where the relation ends.
bool leads_to_limit(const Rounds& r) { return (r.step > 0) == is_below(r.relation); }

// Whether counting by `step` cannot wrap past the limit before it leaves.
bool cannot_wrap(const Function& f, const Rounds& r, bool fits_s, bool fits_u) {
  bool with_sign = sees_signs(r.relation), up = r.step > 0;
  bool until =
      r.relation == Op::LtS || r.relation == Op::LtU || r.relation == Op::GtS || r.relation == Op::GtU;
  if (!leads_to_limit(r)) return false;
  if (until && (r.step == 1 || r.step == -1)) return true;
  if (with_sign ? fits_s : fits_u && up) return true;
  Number n = number_of(f, r.limit);
  if (!n.exists() || n.width > 64) return false;
  using Wide = __int128;
  Wide beyond = Wide(r.step) - (until ? (up ? 1 : -1) : 0);  // how far past the limit it may come
  if (with_sign) {
    Wide most = static_cast<Wide>(mask_of(n.width - 1)), least = -most - 1;
    return up ? n.greatest + beyond <= most : n.least + beyond >= least;
  }
  return up ? static_cast<Wide>(n.high) + beyond <= static_cast<Wide>(mask_of(n.width))
            : static_cast<Wide>(n.low) + beyond >= 0;
}

// How often first, first + step, … stand in the relation to the limit before one does not; numbers that do
// not wrap are counted with, and wrapping ends the answer.
std::optional<uint64_t> count(const Rounds& r, Bits start, Bits limit, unsigned width) {
  using Wide = __int128;
  Bits mask = mask_of(width), first = (start * r.scale + r.offset) & mask;
  if (r.relation == Op::Ne) {
    Bits apart = (r.step > 0 ? limit - first : first - limit) & mask;
    Bits step = static_cast<Bits>(r.step > 0 ? r.step : -r.step);
    if (apart % step) return std::nullopt;
    return static_cast<uint64_t>(apart / step);
  }
  bool with_sign = sees_signs(r.relation);
  auto number = [&](Bits b) { return with_sign ? Wide(signed_of(b, width)) : static_cast<Wide>(b); };
  Wide from = number(first), to = number(limit), step = r.step;
  Wide greatest = with_sign ? static_cast<Wide>(mask >> 1) : static_cast<Wide>(mask);
  Wide least = with_sign ? -greatest - 1 : 0;
  bool up = step > 0;
  if (!leads_to_limit(r)) {
    // Away from the limit: either it never stays, or until it wraps.
    bool below = r.relation == Op::LtS || r.relation == Op::LtU,
         above = r.relation == Op::GtS || r.relation == Op::GtU;
    bool holds = below ? from < to : above ? from > to : up ? from >= to : from <= to;
    return holds ? std::nullopt : std::optional<uint64_t>(0);
  }
  Wide apart = up ? to - from : from - to;  // before it is reached
  if (r.relation == Op::LeS || r.relation == Op::LeU || r.relation == Op::GeS || r.relation == Op::GeU)
    ++apart;
  if (apart <= 0) return 0;
  Wide size = up ? step : -step, times = (apart + size - 1) / size, last = from + times * step;
  if (last > greatest || last < least) return std::nullopt;
  return static_cast<uint64_t>(times);
}

// The ways in which a loop takes bits away until none is left.
std::optional<Rounds::Kind> takes_bits(const Function& f, Value next, Value x) {
  Instruction d = f.definition(next);
  if (!d.exists() || f.operand_count(d) != 2) return std::nullopt;
  auto is_one = [&](Value v) { return f.is_constant(v) && f.constant_word(v) == 1; };
  if (f.op(d) == Op::ShrU && f.operand(d, 0) == x && is_one(f.operand(d, 1))) return Rounds::Kind::BitLength;
  if (f.op(d) == Op::Shl && f.operand(d, 0) == x && is_one(f.operand(d, 1))) return Rounds::Kind::TailLength;
  if (f.op(d) != Op::And) return std::nullopt;
  unsigned at = f.operand(d, 0) == x ? 0 : 1;
  Instruction less = f.definition(f.operand(d, 1 - at));
  if (f.operand(d, at) != x || !less.exists() || f.op(less) != Op::Add || f.operand(less, 0) != x)
    return std::nullopt;
  Value c = f.operand(less, 1);
  if (!f.is_constant(c) || f.constant_word(c) != mask_of(f.type(x).bits())) return std::nullopt;
  return Rounds::Kind::BitsSet;
}

struct Question {
  const Function& f;
  const Loops& loops;
  const LoopShape& loop;
};

std::optional<Rounds> by_counting(const Question& q, Rounds r, Op op, Value compared, Value limit) {
  const Function& f = q.f;
  if (!stays_same(f, q.loops, q.loop.head, limit)) return std::nullopt;
  auto linear = linear_in(f, q.loop.head, compared);
  if (!linear || f.type(compared).bits() > 64) return std::nullopt;
  auto progress = progress_of(f, q.loops, q.loop, linear->parameter);
  if (!progress || !f.is_constant(progress->step)) return std::nullopt;
  unsigned width = f.type(compared).bits();
  r.relation = op, r.limit = limit, r.start = progress->start, r.parameter = linear->parameter;
  r.scale = linear->scale, r.offset = linear->offset;
  r.step = signed_of((f.constant_word(progress->step) * linear->scale) & mask_of(width), width);
  if (r.step == 0 || r.step == INT64_MIN || op == Op::Eq) return std::nullopt;
  if (f.is_constant(r.start) && f.is_constant(limit))
    r.known = count(r, f.constant_word(r.start), f.constant_word(limit), width);
  if (r.known) return r;
  // Promises tell of sums as numbers, so the step must be the same as a number.
  __int128 exact =
      __int128(signed_of(f.constant_word(progress->step), width)) * signed_of(linear->scale, width);
  bool fits_s = linear->fits_s && progress->fits_s && exact == r.step;
  bool fits_u = linear->fits_u && progress->fits_u && exact == r.step;
  bool ends = op == Op::Ne ? r.step == 1 || r.step == -1 : cannot_wrap(f, r, fits_s, fits_u);
  return ends ? std::optional(r) : std::nullopt;
}

std::optional<Rounds> by_bits(const Question& q, Rounds r, Op op, Value compared, Value limit) {
  const Function& f = q.f;
  if (op != Op::Ne || !f.is_constant(limit) || f.constant_word(limit) != 0 || !q.loop.entry.exists() ||
      !q.loop.back.exists() || !f.type(compared).is_integer() || f.type(compared).has_lanes())
    return std::nullopt;
  for (size_t k = 0; k < f.parameters(q.loop.head).size(); ++k) {
    Value x = f.parameters(q.loop.head)[k], next = f.argument(q.loop.back, k);
    if (compared != x && compared != next) continue;
    auto kind = takes_bits(f, next, x);
    if (!kind) continue;
    r.kind = *kind, r.start = f.argument(q.loop.entry, k), r.limit = limit, r.next = compared == next;
    return r;
  }
  return std::nullopt;
}

}  // namespace

std::optional<Rounds> rounds_of(const Function& f, const Loops& loops, const Dominators& dominators,
                                const LoopShape& loop) {
  if (!loop.entry.exists() || !loop.back.exists()) return std::nullopt;
  std::optional<Rounds> best;
  for (Edge leaves : loop.exits) {
    Block at = f.from(leaves);
    Instruction branch = f.terminator(at);
    if (f.op(branch) != Op::When || loops.header(at) != loop.head ||
        !dominators.dominates(at, f.from(loop.back)))
      continue;
    Edge stays = f.edge(branch, f.edge(branch, 0) == leaves ? 1 : 0);
    if (!loops.contains(loop.head, f.to(stays))) continue;
    Instruction d = f.definition(f.operand(branch, 0));
    if (!d.exists() || info(f.op(d)).result != ResultRule::Truth ||
        f.type(f.operand(branch, 0)).has_lanes() || f.operand_count(d) != 2 ||
        !f.type(f.operand(d, 0)).is_integer())
      continue;
    Op op = f.edge(branch, 0) == stays ? f.op(d) : relatives_of(f.op(d))->opposite;
    Rounds r;
    r.stays = stays, r.leaves = leaves, r.only_exit = loop.exits.size() == 1;
    Question q{f, loops, loop};
    Value a = f.operand(d, 0), b = f.operand(d, 1);
    auto found = by_counting(q, r, op, a, b);
    if (!found) found = by_counting(q, r, relatives_of(op)->mirrored, b, a);
    if (!found) found = by_bits(q, r, op, a, b);
    if (found && (!best || (found->known && (!best->known || *found->known < *best->known)))) best = found;
  }
  return best;
}

}  // namespace porphyry
