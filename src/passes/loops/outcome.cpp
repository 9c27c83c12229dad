// outcome: what a loop leaves in its values is computed in front of it, where that is known; a loop that does
// nothing else goes.
//
// A value of the loop is described by what it is in round k: c0 + c1 * k + c2 * k (k - 1) / 2 + …,
// coefficients being sums of values that stay the same (O. Bachmann, P. Wang, E. Zima, "Chains of
// Recurrences", 1994). Where the branch that leaves stays N times, it leaves the values of round N. Sums of
// linear and of square values are among them. The loop goes where all that is used behind it is known so,
// none of its operations has an effect, and it is shown to end; otherwise only what is a number is put in
// place. Inner loops first, then again as long as loops go. O(operations of the loops that go).
#include <fmt/format.h>

#include <algorithm>
#include <unordered_set>

#include "closed.h"
#include "front.h"
#include "porphyry/ir/edit.h"
#include "porphyry/ir/order.h"
#include "porphyry/optimize/pass.h"
#include "porphyry/print/print.h"

namespace porphyry {
namespace {

constexpr size_t most_degree = 3, most_terms = 8;
constexpr unsigned most_depth = 12;

// A sum of values that stay the same, each first converted and then times a number, modulo 2^width.
struct Term {
  Value value;
  Op convert = Op::Add;  // a conversion; Add: none
  Bits times = 0;
};
struct Sum {
  std::vector<Term> terms;
  Bits constant = 0;

  bool is_constant() const { return terms.empty(); }
  void add(const Term& t) {
    for (Term& mine : terms)
      if (mine.value == t.value && mine.convert == t.convert) return void(mine.times += t.times);
    terms.push_back(t);
  }
  void add(const Sum& other, Bits times) {
    for (const Term& t : other.terms) add(Term{t.value, t.convert, t.times * times});
    constant += other.constant * times;
  }
};
using Chain = std::vector<Sum>;  // by degree
using Chained = std::optional<Chain>;

Chain added(const Chain& a, const Chain& b, Bits times) {
  Chain out(std::max(a.size(), b.size()));
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
Chained multiplied(const Chain& a, const Chain& b) {
  if (b.size() == 1 || a.size() == 1) {
    const Chain& more = a.size() == 1 ? b : a;
    const Sum& one = a.size() == 1 ? a[0] : b[0];
    Chain out;
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
  Chain out(3);
  out[0] = *p00;
  out[1].add(*p01, 1), out[1].add(*p10, 1), out[1].add(*p11, 1);
  out[2].add(*p11, 2);
  return out;
}

// What values of one loop are in its rounds.
class Describer {
 public:
  Describer(const Function& f, const Loops& loops, const LoopShape& loop, const Rounds& rounds)
      : f_(f), loops_(loops), loop_(loop), rounds_(rounds) {}

  // The same in all rounds: from outside, or computed from such.
  bool stays(Value v) {
    if (stays_same(f_, loops_, loop_.head, v)) return true;
    if (!std::exchange(looked_, true)) find_what_stays();
    return stay_.count(v.index) != 0;
  }

  Chained describe(Value v, unsigned depth = 0) {
    Type t = f_.type(v);
    if (!t.is_integer() || t.has_lanes() || t.bits() > 64 || depth > most_depth) return std::nullopt;
    v = given(f_, v);
    if (f_.is_constant(v)) return Chain{Sum{{}, f_.constant_word(v)}};
    if (stays(v)) return Chain{Sum{{Term{v, Op::Add, 1}}, 0}};
    if (f_.kind(v) == ValueKind::BlockParameter) return of_parameter(v, depth);
    Instruction d = f_.definition(v);
    if (!d.exists()) return std::nullopt;
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
        unsigned by = static_cast<unsigned>(f_.constant_word(f_.operand(d, 1)) % t.bits());
        return a ? Chained(added({}, *a, Bits(1) << by)) : a;
      }
      case Op::Narrow: return converted(d, Op::Narrow, depth);
      case Op::WidenS:
      case Op::WidenU:
        return counts_without_wrapping(f_.operand(d, 0), f_.op(d)) ? converted(d, f_.op(d), depth)
                                                                   : std::nullopt;
      default: return std::nullopt;
    }
  }

 private:
  void find_what_stays() {
    for (Block b : loop_.blocks)
      for (Instruction i : f_.instructions(b)) {
        if (!info(f_.op(i)).is_plain() || f_.has_effect(i) || f_.result_count(i) != 1) continue;
        bool all = true;
        for (Value v : f_.operands(i))
          all = all && (stays_same(f_, loops_, loop_.head, v) || stay_.count(v.index));
        if (all) stay_.insert(f_.result(i).index);
      }
  }
  Chained combined(Instruction d, Bits times, unsigned depth) {
    auto a = describe(f_.operand(d, 0), depth + 1), b = a ? describe(f_.operand(d, 1), depth + 1) : a;
    return b ? Chained(added(*a, *b, times)) : std::nullopt;
  }
  Chained of_parameter(Value p, unsigned depth) {
    if (f_.defining_block(p) != loop_.head || std::count(open_.begin(), open_.end(), p.index))
      return std::nullopt;
    open_.push_back(p.index);
    size_t k = f_.result_index(p);
    auto each = change(f_.argument(loop_.back, k), p, depth + 1);
    open_.pop_back();
    if (!each || each->size() > most_degree) return std::nullopt;
    auto start = describe(f_.argument(loop_.entry, k), depth + 1);
    if (!start) return std::nullopt;
    Chain out{(*start)[0]};
    out.insert(out.end(), each->begin(), each->end());
    return out;
  }
  // `next` less the parameter.
  Chained change(Value next, Value p, unsigned depth) {
    next = given(f_, next);
    if (next == p) return Chain{Sum{}};
    Instruction d = f_.definition(next);
    if (!d.exists() || depth > most_depth || (f_.op(d) != Op::Add && f_.op(d) != Op::Sub))
      return std::nullopt;
    for (unsigned k = 0; k < (f_.op(d) == Op::Add ? 2u : 1u); ++k) {
      auto mine = change(f_.operand(d, k), p, depth + 1);
      auto other = mine ? describe(f_.operand(d, 1 - k), depth + 1) : mine;
      if (other) return added(*mine, *other, f_.op(d) == Op::Add ? Bits(1) : ~Bits(0));
    }
    return std::nullopt;
  }
  // Coefficients converted one by one, which only a value may be that is none already.
  Chained converted(Instruction d, Op op, unsigned depth) {
    auto chain = describe(f_.operand(d, 0), depth + 1);
    if (!chain) return std::nullopt;
    unsigned from = f_.type(f_.operand(d, 0)).bits();
    for (Sum& s : *chain) {
      s.constant &= mask_of(from);
      if (op == Op::WidenS && (s.constant >> (from - 1))) s.constant |= ~mask_of(from);
      for (Term& t : s.terms) {
        if (t.convert != Op::Add || (op != Op::Narrow && (t.times != 1 || s.terms.size() > 1 || s.constant)))
          return std::nullopt;
        t.convert = op;
      }
    }
    return chain;
  }
  // A parameter that counts up to a limit of the same sign, or whose sums are promised not to wrap.
  bool counts_without_wrapping(Value v, Op widen) const {
    if (f_.kind(v) != ValueKind::BlockParameter || f_.defining_block(v) != loop_.head) return false;
    auto progress = progress_of(f_, loops_, loop_, v);
    if (!progress || !progress->step.exists() || !f_.is_constant(progress->step)) return false;
    unsigned width = f_.type(v).bits();
    if (f_.constant_word(progress->step) >> (width - 1)) return false;
    if (widen == Op::WidenS ? progress->fits_s : progress->fits_u) return true;
    bool with_sign = rounds_.relation == Op::LtS || rounds_.relation == Op::LeS;
    bool without = rounds_.relation == Op::LtU || rounds_.relation == Op::LeU;
    return rounds_.kind == Rounds::Kind::Counted && rounds_.start == progress->start && rounds_.scale == 1 &&
           rounds_.offset == 0 && compares(v) && (widen == Op::WidenS ? with_sign : without);
  }
  bool compares(Value v) const {
    Instruction d = f_.definition(f_.operand(f_.terminator(f_.from(rounds_.leaves)), 0));
    return f_.operand(d, 0) == v || f_.operand(d, 1) == v;
  }

  const Function& f_;
  const Loops& loops_;
  const LoopShape& loop_;
  const Rounds& rounds_;
  std::vector<uint32_t> open_;  // parameters that are being described
  bool looked_ = false;
  std::unordered_set<uint32_t> stay_;  // values of the loop that are made from what stays the same
};

// Chains as operations in front of their loop, for the round in which it is left.
class Writer {
 public:
  Writer(Module& module, Function& f, const Loops& loops, Block head, Block front, Position position)
      : f_(f), loops_(loops), head_(head), front_(front), pen_(module, f) {
    pen_.before(f.terminator(front)).from(position);
  }
  void count(const Rounds& rounds) { rounds_ = &rounds; }

  // A value that stays the same, moved in front with what it is made of.
  Value bring(Value v) {
    Instruction d = f_.definition(v);
    if (!d.exists() || !loops_.contains(head_, f_.block(d))) return v;
    for (size_t k = 0; k < f_.operand_count(d); ++k) bring(f_.operand(d, k));
    if (f_.promises(d)) f_.set_promises(d, 0);
    f_.move_before(d, f_.terminator(front_));
    return v;
  }
  Value value(Type type, const Chain& chain) {
    Value out = sum(type, chain[0]);
    for (size_t k = 1; k < chain.size(); ++k) {
      if (chain[k].is_constant() && (chain[k].constant & mask_of(type.bits())) == 0) continue;
      Value times = over(k);
      if (type != wide) times = pen_.narrow(type, times);
      out = pen_.add(out, pen_.mul(times, sum(type, chain[k])));
    }
    return out;
  }

 private:
  Value sum(Type type, const Sum& s) {
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
  Value over(size_t k) {
    auto number = [&](Bits b) { return f_.constant(wide, b & mask_of(64)); };
    if (over_.empty()) {
      Value times = write_stays(pen_, *rounds_);
      over_.push_back(f_.type(times) == wide ? times : pen_.widen_u(wide, times));
    }
    Value n = over_[0];
    if (k >= 2 && over_.size() < 2)
      over_.push_back(pen_.mul(pen_.shr_u(n, number(1)), pen_.or_(pen_.add(n, number(~Bits(0))), number(1))));
    if (k >= 3 && over_.size() < 3)
      over_.push_back(
          pen_.mul(pen_.mul(over_[1], pen_.add(n, number(~Bits(1)))), number(0xaaaaaaaaaaaaaaab)));
    return over_[k - 1];
  }

  static inline const Type wide = Type::integer(64);
  Function& f_;
  const Loops& loops_;
  Block head_, front_;
  Pen pen_;
  const Rounds* rounds_ = nullptr;
  std::vector<Value> over_;  // N over 1, 2, 3
};

class Foreteller {
 public:
  explicit Foreteller(FunctionContext& c) : c_(c), f_(c.function) {}

  void run() {
    if (pass_over(c_.facts.get<Dominators>(), c_.facts.get<Loops>()))
      for (unsigned again = 0; again < most_depth; ++again) {
        remove_unreachable_blocks(f_);
        Dominators dominators(f_);
        if (!pass_over(dominators, Loops(f_, dominators))) break;
      }
  }

 private:
  // Whether a loop went.
  bool pass_over(const Dominators& dominators, const Loops& loops) {
    std::unordered_set<uint32_t> stale;  // heads of loops around one that went
    for (const LoopShape& loop : loop_shapes(f_, dominators, loops)) {
      if (stale.count(loop.head.index)) continue;
      if (!one(dominators, loops, loop)) continue;
      for (Block h = loop.head; h.exists(); h = loops.outer(h)) stale.insert(h.index);
    }
    return !stale.empty();
  }

  bool one(const Dominators& dominators, const Loops& loops, const LoopShape& loop) {
    auto rounds = rounds_of(f_, loops, dominators, loop);
    if (loop.exits.size() != 1) return false;
    std::vector<Slot> uses = left(loops, loop);
    bool goes = !has_effect(loop);
    if (!rounds) {
      if (!goes || !uses.empty() || !may_be_taken_to_end(loop)) return false;
      return remove(loops, loop, nullptr, {}), true;
    }
    if (!goes && (!rounds->known || uses.empty())) return false;
    Describer describer(f_, loops, loop, *rounds);
    std::vector<std::pair<Slot, Chain>> known;
    for (Slot s : uses) {
      auto chain = describer.describe(f_.value(s));
      if (chain && writable(*chain, f_.value(s), *rounds))
        known.push_back({s, std::move(*chain)});
      else if (!f_.is_constant(f_.value(s)))
        goes = false;
    }
    if (!goes) {
      if (rounds->known) numbers_only(known, *rounds);
      return false;
    }
    remove(loops, loop, &*rounds, known);
    return true;
  }

  // Where values of the loop are used behind it: arguments of the way out, and further uses.
  std::vector<Slot> left(const Loops& loops, const LoopShape& loop) const {
    std::vector<Slot> out;
    Edge leaves = loop.exits[0];
    for (size_t k = 0; k < f_.argument_count(leaves); ++k)
      if (!stays_same(f_, loops, loop.head, f_.argument(leaves, k)))
        out.push_back(f_.argument_slot(leaves, k));
    auto used_outside = [&](Value v) {
      for (Slot s : f_.uses(v))
        if (!loops.contains(loop.head, f_.block(f_.use(s).user))) out.push_back(s);
    };
    for (Block b : loop.blocks) {
      for (Value v : f_.parameters(b)) used_outside(v);
      for (Instruction i : f_.instructions(b))
        for (Value v : f_.results(i)) used_outside(v);
    }
    return out;
  }
  bool has_effect(const LoopShape& loop) const {
    if (!loop.innermost) return true;  // one that is still there is not known to end
    for (Block b : loop.blocks)
      for (Instruction i : f_.instructions(b))
        if (!info(f_.op(i)).ends_block() && f_.has_effect(i)) return true;
    return false;
  }
  bool may_be_taken_to_end(const LoopShape& loop) const {
    uint8_t permits = c_.module[c_.symbol].facts.permits;
    if (loop.back.exists()) permits |= f_.permits(f_.terminator(f_.from(loop.back)));
    return permits & permit::ends;
  }

  bool writable(const Chain& chain, Value v, const Rounds& rounds) const {
    size_t terms = 0;
    for (const Sum& s : chain) terms += s.terms.size();
    unsigned width = std::max(f_.type(v).bits(), f_.type(rounds.start).bits());
    return chain.size() <= most_degree + 1 && terms <= most_terms && width <= 64;
  }

  void numbers_only(const std::vector<std::pair<Slot, Chain>>& known, const Rounds& rounds) {
    for (const auto& [slot, chain] : known) {
      if (!std::all_of(chain.begin(), chain.end(), [](const Sum& s) { return s.is_constant(); })) continue;
      Bits n = *rounds.known, sum = chain[0].constant, choose = n;
      for (size_t k = 1; k < chain.size(); ++k) {
        sum += chain[k].constant * choose;
        if (n <= k || k + 1 == chain.size()) break;
        if (n > (Bits(1) << 30)) return;  // the product below would not fit
        choose = choose * (n - k) / (k + 1);
      }
      Value v = f_.value(slot), c = f_.constant(f_.type(v), sum & mask_of(f_.type(v).bits()));
      if (c_.wants_notes())
        c_.done({}, c_.name(v), "is " + c_.name(c) + " behind the loop", "how many rounds there are is known",
                {{"rounds", fmt::to_string(*rounds.known + 1)}});
      f_.set(slot, c);
    }
  }

  void remove(const Loops& loops, const LoopShape& loop, const Rounds* rounds,
              const std::vector<std::pair<Slot, Chain>>& known) {
    if (c_.wants_notes())
      c_.done(
          f_.position(f_.terminator(loop.head)), block_text(c_.module, f_, loop.head), "the loop is gone",
          known.empty() ? "nothing of it is used, and it ends" : "what it leaves is computed in front of it",
          {{"values", fmt::to_string(known.size())}});
    Block front = block_in_front(f_, loops, loop.head);
    Edge leaves = loop.exits[0];
    Writer writer(c_.module, f_, loops, loop.head, front, f_.position(f_.terminator(f_.from(leaves))));
    if (rounds) writer.count(*rounds);
    for (const auto& [slot, chain] : known) f_.set(slot, writer.value(f_.type(f_.value(slot)), chain));
    // The block in front goes where the loop went.
    Edge way = f_.edges(front)[0];
    std::vector<Value> arguments;
    for (Value v : f_.arguments(leaves)) arguments.push_back(v);
    f_.redirect(way, f_.to(leaves));
    for (Value v : arguments) f_.add_argument(way, v);
  }

  FunctionContext& c_;
  Function& f_;
};

}  // namespace

void outcome(FunctionContext& c) { Foreteller(c).run(); }

}  // namespace porphyry
