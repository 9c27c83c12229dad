#include "recurrences.h"

#include <algorithm>

#include "porphyry/ir/edit.h"
#include "porphyry/ir/words.h"

namespace porphyry {
namespace {

constexpr unsigned most_depth = 12;

Recurrence added(const Recurrence& a, const Recurrence& b, Bits times) {
  Recurrence out(std::max(a.size(), b.size()));
  for (size_t k = 0; k < a.size(); ++k) out[k].add(a[k], 1);
  for (size_t k = 0; k < b.size(); ++k) out[k].add(b[k], times);
  return out;
}
// One of the two must be a number.
std::optional<Sum> product(const Sum& a, const Sum& b) {
  Sum out;
  if (a.is_constant())
    out.add(b, a.constant);
  else if (b.is_constant())
    out.add(a, b.constant);
  else
    return std::nullopt;
  return out;
}
// (a0 + a1 k) (b0 + b1 k), as k k = k + 2 k (k - 1) / 2.
std::optional<Recurrence> multiplied(const Recurrence& a, const Recurrence& b) {
  if (b.size() == 1 || a.size() == 1) {
    const Recurrence& more = a.size() == 1 ? b : a;
    const Sum& one = a.size() == 1 ? a[0] : b[0];
    Recurrence out;
    for (const Sum& s : more) {
      auto p = product(s, one);
      if (!p) return std::nullopt;
      out.push_back(*p);
    }
    return out;
  }
  if (a.size() > 2 || b.size() > 2) return std::nullopt;
  auto p00 = product(a[0], b[0]), p01 = product(a[0], b[1]), p10 = product(a[1], b[0]),
       p11 = product(a[1], b[1]);
  if (!p00 || !p01 || !p10 || !p11) return std::nullopt;
  Recurrence out(3);
  out[0] = *p00;
  out[1].add(*p01, 1), out[1].add(*p10, 1), out[1].add(*p11, 1);
  out[2].add(*p11, 2);
  return out;
}

}  // namespace

// ---- reading ----------------------------------------------------------------------------------------------

bool Staying::stays(Value v) {
  if (stays_same(f_, loops_, loop_.head, v)) return true;
  if (!std::exchange(looked_, true)) look();
  return made_.count(v.index) != 0;
}

void Staying::look() {
  for (Block b : loop_.blocks)
    for (Instruction i : f_.instructions(b)) {
      if (!info(f_.op(i)).is_plain() || f_.has_effect(i) || f_.result_count(i) != 1) continue;
      bool all = true;
      for (Value v : f_.operands(i))
        all = all && (stays_same(f_, loops_, loop_.head, v) || made_.count(v.index));
      if (all) made_.insert(f_.result(i).index);
    }
}

RecurrenceReader::Known RecurrenceReader::describe(Value v, unsigned depth) {
  Type t = f_.type(v);
  if (!t.is_integer() || t.has_lanes() || t.bits() > 64 || depth > most_depth) return std::nullopt;
  v = given(f_, v);
  if (f_.is_constant(v)) return Recurrence{Sum{{}, f_.constant_word(v)}};
  if (stays(v)) return Recurrence{Sum{{Term{v, Op::Add, 1}}, 0}};
  if (f_.kind(v) == ValueKind::BlockParameter) return of_parameter(v, depth);
  Instruction d = f_.definition(v);
  return d.exists() ? operation(d, depth) : std::nullopt;
}

RecurrenceReader::Known RecurrenceReader::operation(Instruction d, unsigned depth) {
  switch (f_.op(d)) {
    case Op::Add: return combined(d, 1, depth);
    case Op::Sub: return combined(d, ~Bits(0), depth);
    case Op::Mul: {
      auto a = describe(f_.operand(d, 0), depth + 1), b = a ? describe(f_.operand(d, 1), depth + 1) : a;
      return b ? multiplied(*a, *b) : std::nullopt;
    }
    case Op::Shl: {
      if (!f_.is_constant(f_.operand(d, 1))) return std::nullopt;
      auto a = describe(f_.operand(d, 0), depth + 1);
      unsigned by =
          static_cast<unsigned>(f_.constant_word(f_.operand(d, 1)) % f_.type(f_.operand(d, 0)).bits());
      return a ? Known(added({}, *a, Bits(1) << by)) : a;
    }
    case Op::Narrow: return narrowed(d, depth);
    case Op::WidenS:
    case Op::WidenU: return widened(f_.operand(d, 0), f_.op(d), depth);
    default: return std::nullopt;
  }
}

RecurrenceReader::Known RecurrenceReader::combined(Instruction d, Bits times, unsigned depth) {
  auto a = describe(f_.operand(d, 0), depth + 1), b = a ? describe(f_.operand(d, 1), depth + 1) : a;
  return b ? Known(added(*a, *b, times)) : std::nullopt;
}

RecurrenceReader::Known RecurrenceReader::of_parameter(Value p, unsigned depth) {
  if (f_.defining_block(p) != loop_.head || std::count(open_.begin(), open_.end(), p.index))
    return std::nullopt;
  open_.push_back(p.index);
  size_t k = f_.result_index(p);
  auto each = change(f_.argument(loop_.back, k), p, depth + 1);
  open_.pop_back();
  if (!each || each->size() > most_degree) return std::nullopt;
  auto start = describe(f_.argument(loop_.entry, k), depth + 1);
  if (!start) return std::nullopt;
  Recurrence out{(*start)[0]};
  out.insert(out.end(), each->begin(), each->end());
  return out;
}

// `next` less the parameter.
RecurrenceReader::Known RecurrenceReader::change(Value next, Value p, unsigned depth) {
  next = given(f_, next);
  if (next == p) return Recurrence{Sum{}};
  Instruction d = f_.definition(next);
  if (!d.exists() || depth > most_depth || (f_.op(d) != Op::Add && f_.op(d) != Op::Sub)) return std::nullopt;
  for (unsigned k = 0; k < (f_.op(d) == Op::Add ? 2u : 1u); ++k) {
    auto mine = change(f_.operand(d, k), p, depth + 1);
    auto other = mine ? describe(f_.operand(d, 1 - k), depth + 1) : mine;
    if (other) return added(*mine, *other, f_.op(d) == Op::Add ? Bits(1) : ~Bits(0));
  }
  return std::nullopt;
}

RecurrenceReader::Known RecurrenceReader::narrowed(Instruction d, unsigned depth) {
  auto recurrence = describe(f_.operand(d, 0), depth + 1);
  if (!recurrence) return recurrence;
  for (Sum& s : *recurrence)
    for (Term& t : s.terms) {
      if (t.convert != Op::Add) return std::nullopt;
      t.convert = Op::Narrow;
    }
  return recurrence;
}

// Widening goes through sums that do not wrap, down to a parameter that counts without.
RecurrenceReader::Known RecurrenceReader::widened(Value v, Op op, unsigned depth) {
  v = given(f_, v);
  unsigned width = f_.type(v).bits();
  auto wide = [&](Value c) {
    Bits b = f_.constant_word(c);
    return op == Op::WidenS && (b >> (width - 1)) ? b | ~mask_of(width) : b;
  };
  if (f_.is_constant(v)) return Recurrence{Sum{{}, wide(v)}};
  if (stays(v)) return Recurrence{Sum{{Term{v, op, 1}}, 0}};
  if (depth > most_depth) return std::nullopt;
  if (Instruction d = f_.definition(v); d.exists()) {
    uint8_t fits = op == Op::WidenS ? promise::fits_s : promise::fits_u;
    if (f_.op(d) != Op::Add || !(f_.promises(d) & fits)) return std::nullopt;
    auto a = widened(f_.operand(d, 0), op, depth + 1), b = a ? widened(f_.operand(d, 1), op, depth + 1) : a;
    return b ? Known(added(*a, *b, 1)) : std::nullopt;
  }
  if (!counts_without_wrapping(v, op)) return std::nullopt;
  auto progress = progress_of(f_, loops_, loop_, v);
  Sum start{{}, 0}, step{{}, wide(progress->step)};
  if (f_.is_constant(progress->start))
    start.constant = wide(progress->start);
  else
    start.terms.push_back({progress->start, op, 1});
  return Recurrence{start, step};
}

// A parameter that counts up to a limit of the same sign, or whose sums are promised not to wrap.
bool RecurrenceReader::counts_without_wrapping(Value v, Op widen) const {
  if (f_.kind(v) != ValueKind::BlockParameter || f_.defining_block(v) != loop_.head) return false;
  auto progress = progress_of(f_, loops_, loop_, v);
  if (!progress || !progress->step.exists() || !f_.is_constant(progress->step)) return false;
  unsigned width = f_.type(v).bits();
  Bits step = f_.constant_word(progress->step);
  if (step >> (width - 1)) return false;
  if (widen == Op::WidenS ? progress->fits_s : progress->fits_u) return true;
  bool with_sign = rounds_.relation == Op::LtS || rounds_.relation == Op::LeS;
  bool without = rounds_.relation == Op::LtU || rounds_.relation == Op::LeU;
  // What is compared is the parameter, or what it is in the next round.
  return rounds_.kind == Rounds::Kind::Counted && rounds_.parameter == v && rounds_.scale == 1 &&
         (rounds_.offset == 0 || rounds_.offset == step) && (widen == Op::WidenS ? with_sign : without);
}

// ---- writing ----------------------------------------------------------------------------------------------

Value bring_in_front(Function& f, const Loops& loops, Block head, Block front, Value v) {
  Instruction d = f.definition(v);
  if (!d.exists() || !loops.contains(head, f.block(d))) return v;
  for (size_t k = 0; k < f.operand_count(d); ++k) bring_in_front(f, loops, head, front, f.operand(d, k));
  if (f.promises(d)) f.set_promises(d, 0);
  f.move_before(d, f.terminator(front));
  return v;
}

RecurrenceWriter::RecurrenceWriter(Module& module, Function& f, const Loops& loops, Block head, Block front,
                                   Position position)
    : f_(f), loops_(loops), head_(head), front_(front), pen_(module, f) {
  pen_.before(f.terminator(front)).from(position);
}

Value RecurrenceWriter::value(Type type, const Recurrence& recurrence) {
  Value out = sum(type, recurrence[0]);
  for (size_t k = 1; k < recurrence.size(); ++k) {
    if (recurrence[k].is_constant() && (recurrence[k].constant & mask_of(type.bits())) == 0) continue;
    Value times = over(k);
    if (type != Type::integer(64)) times = pen_.narrow(type, times);
    out = pen_.add(out, pen_.mul(times, sum(type, recurrence[k])));
  }
  return out;
}

Value RecurrenceWriter::sum(Type type, const Sum& s) {
  Value out;
  auto add = [&](Value v) { out = out.exists() ? pen_.add(out, v) : v; };
  Bits mask = mask_of(type.bits());
  for (const Term& t : s.terms) {
    Bits times = t.times & mask;
    if (!times) continue;
    Value v = bring(t.value);
    if (t.convert != Op::Add) v = pen_.convert(t.convert, type, v);
    add(times == 1 ? v : pen_.mul(v, f_.constant(type, times)));
  }
  if ((s.constant & mask) || !out.exists()) add(f_.constant(type, s.constant & mask));
  return out;
}

// N over k, modulo 2^64; in fewer bits the halves would be lost. They are taken before the product, of the
// factor that is even; a third is a product with the number that gives 1 with 3.
Value RecurrenceWriter::over(size_t k) {
  const Type wide = Type::integer(64);
  auto number = [&](Bits b) { return f_.constant(wide, b & mask_of(64)); };
  if (over_.empty()) {
    Value times = write_stays(pen_, *rounds_);
    over_.push_back(f_.type(times) == wide ? times : pen_.widen_u(wide, times));
  }
  Value n = over_[0];
  if (k >= 2 && over_.size() < 2)
    over_.push_back(pen_.mul(pen_.shr_u(n, number(1)), pen_.or_(pen_.add(n, number(~Bits(0))), number(1))));
  if (k >= 3 && over_.size() < 3)
    over_.push_back(pen_.mul(pen_.mul(over_[1], pen_.add(n, number(~Bits(1)))), number(0xaaaaaaaaaaaaaaab)));
  return over_[k - 1];
}

}  // namespace porphyry
