// propagate: integers that are constant on every way that can be taken become constants.
//
// Facts of integers (analyze/number.h) flow from definitions to uses and along edges that may be taken; a
// branch is taken only where its condition may hold, and behind it the operands of its comparison are known
// better. Facts only ever become weaker; bounds of block parameters that keep changing are given up, so each
// value changes a bounded number of times. M. Wegman, K. Zadeck, "Constant Propagation with Conditional
// Branches", 1991; bounds as in J. Patterson, "Accurate Static Branch Prediction by Value Range Propagation",
// 1995. O(uses * changes).
#include <fmt/format.h>

#include <queue>

#include "porphyry/analyze/number.h"
#include "porphyry/ir/edit.h"
#include "porphyry/ir/relatives.h"
#include "porphyry/ir/words.h"
#include "porphyry/optimize/pass.h"
#include "porphyry/print/print.h"

namespace porphyry {
namespace {

class Propagator {
 public:
  explicit Propagator(FunctionContext& c)
      : c_(c),
        f_(c.function),
        dominators_(c.facts.get<Dominators>()),
        facts_(f_.value_limit()),
        changes_(f_.value_limit()),
        reached_(f_.block_limit()),
        visited_(f_.block_limit()),
        place_(f_.block_limit()) {}

  void run() {
    find_comparisons();
    refinements_.settle(f_.value_limit());
    dependents_.settle(f_.value_limit());
    for (size_t k = 0; k < dominators_.order().size(); ++k) place_[dominators_.order()[k]] = k;
    reach(f_.entry());
    // Blocks in order, so that most of what flows into one is known when it is gone through first.
    for (size_t next_user = 0; !blocks_.empty() || next_user < users_.size();) {
      if (!blocks_.empty()) {
        Block b = dominators_.order()[blocks_.top()];
        blocks_.pop();
        for (Instruction i : f_.instructions(b)) {
          // Before the ways out: one may lead back to the block.
          if (i == f_.last(b)) visited_[b] = 1;
          visit(i);
        }
      } else {
        Instruction i = users_[next_user++];
        queued_.set(i, 0);
        visit(i);
      }
    }
    replace();
  }

 private:
  // What holds of a value from a block on.
  struct Refinement {
    Block from;
    Op op;
    Value other;
  };

  bool is_number(Value v) const { return f_.type(v).is_integer() || f_.type(v).is_bool(); }

  void find_comparisons() {
    for (Block b : dominators_.order()) {
      if (Edge e = dominators_.only_way_in(f_, b); e.exists()) {
        Instruction i = f_.terminator(f_.from(e));
        if (f_.op(i) == Op::When) refine_from(b, f_.operand(i, 0), f_.edge(i, 0) == e);
      }
      Instruction end = f_.terminator(b);
      if (!end.exists() || f_.op(end) != Op::When) continue;
      Instruction d = f_.definition(f_.operand(end, 0));
      bool holds = !d.exists() || f_.op(d) != Op::Or;  // whichever says more: who depends on whom is the same
      implied(f_.operand(end, 0), holds, [&](const Comparison& c) { depends(c.a, c.b), depends(c.b, c.a); });
    }
  }
  struct Comparison {
    Op op;
    Value a, b;
  };
  // What follows from a condition that holds or does not: its own value where it is used again, a comparison,
  // and the same of both operands of an `and` that holds or an `or` that does not.
  template <class Each>
  void implied(Value condition, bool holds, Each&& each, unsigned depth = 0) const {
    Instruction d = f_.definition(condition);
    if (f_.is_constant(condition) || f_.type(condition).has_lanes()) return;
    Slot first = f_.first_use(condition);
    if (first.exists() && f_.next_use(first).exists())
      each({Op::Eq, condition, f_.constant(Type::boolean(), holds)});
    if (!d.exists()) return;
    if (f_.op(d) == (holds ? Op::And : Op::Or) && depth < most_parts) {
      implied(f_.operand(d, 0), holds, each, depth + 1);
      implied(f_.operand(d, 1), holds, each, depth + 1);
    } else if (auto c = comparison(condition, holds)) {
      each(*c);
    }
  }
  std::optional<Comparison> comparison(Value condition, bool holds) const {
    Instruction d = f_.definition(condition);
    if (!d.exists() || info(f_.op(d)).result != ResultRule::Truth || f_.type(condition).has_lanes())
      return std::nullopt;
    if (!is_number(f_.operand(d, 0))) return std::nullopt;
    return Comparison{holds ? f_.op(d) : relatives_of(f_.op(d))->opposite, f_.operand(d, 0),
                      f_.operand(d, 1)};
  }
  void refine_from(Block from, Value condition, bool holds) {
    implied(condition, holds, [&](const Comparison& c) {
      refine(c.a, {from, c.op, c.b});
      refine(c.b, {from, relatives_of(c.op)->mirrored, c.a});
    });
  }
  void refine(Value v, const Refinement& r) {
    if (!f_.is_constant(v) && told_by(v, r.other)) refinements_.add(v, r);
  }
  void depends(Value v, Value other) {
    if (!f_.is_constant(v) && !f_.is_constant(other) && told_by(v, other)) dependents_.add(other, v);
  }
  // Whether a comparison of the two is to tell of the first. What is known of one that everything is compared
  // with, such as a memory's size, would change with each of them: too much to follow.
  bool told_by(Value v, Value other) const { return f_.is_constant(other) || few_uses(v); }
  bool few_uses(Value v) const {
    unsigned budget = 32;
    for (Slot s = f_.first_use(v); s.exists(); s = f_.next_use(s))
      if (budget-- == 0) return false;
    return true;
  }

  // A fact of a value in a block; one that does not exist: nothing reached its definition yet.
  Number fact(Value v, Block where) const {
    if (!is_number(v)) return {};
    if (f_.is_constant(v)) return number_of(f_, v, 0);
    Number out = facts_[v];
    if (!out.exists()) return out;
    const auto list = refinements_.get(v);
    if (list.empty()) return out;
    // They stand in the order of blocks: the nearest above, and what it hides, stand last.
    auto end = std::partition_point(list.begin(), list.end(),
                                    [&](const Refinement& r) { return place_[r.from] <= place_[where]; });
    size_t used = 0, looked = 0;
    for (size_t k = static_cast<size_t>(end - list.begin());
         k-- > 0 && used < most_refinements && looked++ < most_looks;) {
      const Refinement& r = list[k];
      if (!dominators_.dominates(r.from, where)) continue;
      ++used;
      Number other = f_.is_constant(r.other) ? number_of(f_, r.other, 0) : facts_[r.other];
      if (!other.exists()) return {};
      out = refined(out, r.op, other);
    }
    return out;
  }
  // Of an argument, which the branch it goes along may tell more of.
  Number fact_along(Edge e, Value v) const {
    Number out = fact(v, f_.from(e));
    Instruction i = f_.terminator(f_.from(e));
    if (!out.exists() || f_.op(i) != Op::When || f_.edge(i, 0) == f_.edge(i, 1)) return out;
    implied(f_.operand(i, 0), f_.edge(i, 0) == e, [&](const Comparison& c) {
      if (c.a != v && c.b != v) return;
      Value other = c.a == v ? c.b : c.a;
      if (Number n = fact(other, f_.from(e)); n.exists() && told_by(v, other))
        out = refined(out, c.a == v ? c.op : relatives_of(c.op)->mirrored, n);
    });
    return out;
  }

  void weaken(Value v, const Number& to) {
    if (!to.exists()) return;
    Number& now = facts_[v];
    Number joined = now.exists() ? now.joined(to) : to;
    if (joined == now) return;
    if (now.exists() && ++changes_[v] > most_changes) {
      // What keeps changing is given up.
      Number any = Number::any(joined.width);
      if (joined.low != now.low) joined.low = any.low;
      if (joined.high != now.high) joined.high = any.high;
      if (joined.least != now.least) joined.least = any.least;
      if (joined.greatest != now.greatest) joined.greatest = any.greatest;
      if (changes_[v] > 4 * most_changes) joined = any;
    }
    now = joined;
    later_users(v);
    for (Value u : dependents_.get(v)) later_users(u);
  }
  void later_users(Value v) {
    for (Slot s : f_.uses(v)) {
      Instruction i = f_.use(s).user;
      // The others are visited when their blocks are.
      if (queued_.get(i) || !visited_[f_.block(i)]) continue;
      queued_.set(i, 1);
      users_.push_back(i);
    }
  }

  void reach(Block b) {
    if (std::exchange(reached_[b], uint8_t(1))) return;
    for (Value p : f_.parameters())
      if (b == f_.entry() && is_number(p)) weaken(p, Number::any(f_.type(p).bits()));
    blocks_.push(place_[b]);
  }
  void take(Edge e) {
    Block to = f_.to(e);
    for (size_t k = 0; k < f_.argument_count(e); ++k)
      if (Value v = f_.argument(e, k); is_number(v)) weaken(f_.parameters(to)[k], fact_along(e, v));
    reach(to);
  }

  void visit(Instruction i) {
    Block b = f_.block(i);
    if (info(f_.op(i)).ends_block()) return ways(i);
    for (size_t k = 0; k < f_.result_count(i); ++k) {
      Value v = f_.result(i, k);
      if (!is_number(v)) continue;
      weaken(v, k == 0 ? result(i, b) : Number::any(f_.type(v).bits()));
    }
  }
  Number result(Instruction i, Block b) const {
    Type t = f_.type(f_.result(i));
    Number any = Number::any(t.bits());
    if (f_.op(i) == Op::Load && !t.has_lanes())
      if (const KindRow* kind = c_.module.kinds.growing(f_.address(i).kind); kind && t.is_integer())
        return any.met(Number::between(t.bits(), kind->least, std::min<Bits>(kind->most, mask_of(t.bits()))));
    Layout layout = info(f_.op(i)).layout;
    if (!info(f_.op(i)).is_plain() || layout == Layout::Shuffle || layout == Layout::Reduce ||
        layout == Layout::Interleave || layout == Layout::Put)
      return any;
    Number in[3];
    for (size_t k = 0; k < f_.operand_count(i); ++k) {
      in[k] = fact(f_.operand(i, k), b);
      if (is_number(f_.operand(i, k)) && !in[k].exists()) return {};  // not reached yet
      if (in[k].is_empty()) return any;                               // code that no run reaches
    }
    // One whose way is known picks one.
    if (layout == Layout::Pick && in[0].is_exact() && !f_.type(f_.operand(i, 0)).has_lanes())
      return in[in[0].low ? 1 : 2];
    return compute_number(f_.op(i), t, {in, f_.operand_count(i)});
  }

  void ways(Instruction i) {
    auto edges = f_.edges(i);
    if (edges.size() == 0) return;
    if (f_.op(i) != Op::Go) {
      Number n = fact(f_.operand(i, 0), f_.block(i));
      if (!n.exists()) return;
      for (size_t k = 0; k < edges.size(); ++k) {
        bool possible = true;
        if (f_.op(i) == Op::When)
          possible = n.is_empty() || n.has(k == 0 ? 1 : 0);
        else if (k + 1 < edges.size())
          possible = n.is_empty() || n.has(f_.case_value(i, k));
        if (possible) take(edges[k]);
      }
      return;
    }
    take(edges[0]);
  }

  void replace() {
    for (Block b : dominators_.order()) {
      if (!reached_[b]) continue;
      for (size_t k = 0; k < f_.parameters(b).size(); ++k) constant(f_.parameters(b)[k], {});
      for (Instruction i : f_.instructions(b))
        if (info(f_.op(i)).is_plain()) {
          constant(f_.result(i), i);
          read(i, b);
        }
      decide(f_.terminator(b), b);
      for (Edge e : f_.edges(b)) keep_round(e);
    }
  }
  void constant(Value v, Instruction i) {
    if (!is_number(v) || !f_.has_uses(v)) return;
    const Number& n = facts_[v];
    if (!n.is_exact()) return;
    Value c = f_.constant(f_.type(v), n.low);
    if (c_.wants_notes())
      c_.done(i.exists() ? f_.position(i) : Position(), c_.name(v), "became " + c_.name(c),
              "it is the same on every way that can be taken");
    f_.replace_uses(v, c);
  }
  // Operands that branches above make known here, though not wherever they are used.
  void read(Instruction i, Block b) {
    for (size_t k = 0; k < f_.operand_count(i); ++k) {
      Value v = f_.operand(i, k);
      if (!is_number(v) || refinements_.get(v).empty()) continue;
      Number n = fact(v, b);
      if (!n.exists() || !n.is_exact()) continue;
      Value c = f_.constant(f_.type(v), n.low);
      if (c_.wants_notes())
        c_.done(f_.position(i), c_.name(f_.result(i)), "takes " + c_.name(c) + " for " + c_.name(v),
                "a branch above leaves no other value", {{"operation", write_text(c_.module, f_, i)}});
      f_.set(f_.operand_slot(i, k), c);
    }
  }
  // A number that a loop's parameter has anyway where the edge leads back: the parameter itself, which costs
  // nothing.
  void keep_round(Edge e) {
    const Block head = f_.to(e);
    if (!dominators_.dominates(head, f_.from(e))) return;
    for (size_t k = 0; k < f_.argument_count(e); ++k) {
      const Value v = f_.argument(e, k), p = f_.parameters(head)[k];
      if (!f_.is_constant(v) || !is_number(p) || refinements_.get(p).empty()) continue;
      const Number n = fact_along(e, p);
      if (!n.exists() || !n.is_exact() || n.low != f_.constant_word(v)) continue;
      if (c_.wants_notes())
        c_.done(f_.position(f_.terminator(f_.from(e))), c_.name(p), "goes on as it is",
                "it is " + c_.name(v) + " there");
      f_.set(f_.argument_slot(e, k), p);
    }
  }
  // A condition that is known here, though not wherever its value is used.
  void decide(Instruction i, Block b) {
    if (!i.exists() || (f_.op(i) != Op::When && f_.op(i) != Op::Choose)) return;
    Value v = f_.operand(i, 0);
    if (f_.is_constant(v)) return go(i, f_.constant_word(v));
    Number n = fact(v, b);
    if (f_.op(i) == Op::When && !n.is_exact()) n = compared_here(v, b);
    if (!n.is_exact()) return;
    go(i, n.low);
  }
  void go(Instruction i, Bits number) {
    Edge taken = f_.edge(i, way_of(f_, i, number));
    if (c_.wants_notes())
      c_.done(f_.position(i), block_text(c_.module, f_, f_.block(i)),
              "always goes to " + block_text(c_.module, f_, f_.to(taken)),
              "branches and values above decide it", {{"operation", write_text(c_.module, f_, i)}});
    always_take(f_, taken);
  }
  // The comparison may have been made above, where less was known.
  Number compared_here(Value v, Block b) const {
    auto c = comparison(v, true);
    if (!c) return {};
    Number x = fact(c->a, b), y = fact(c->b, b);
    if (!x.exists() || !y.exists() || x.is_empty() || y.is_empty()) return {};
    auto known = decided(c->op, x, y);
    return known ? Number::exactly(1, *known) : Number();
  }

  static constexpr unsigned most_parts = 4;                       // of a condition, nested
  static constexpr size_t most_refinements = 4, most_looks = 16;  // of one value in one place
  static constexpr unsigned most_changes = 4;
  // A list for each value: written in any order, then put side by side, each in the order it was written in.
  template <class T>
  class Lists {
   public:
    void add(Value v, const T& entry) { written_.push_back({v, entry}); }
    void settle(size_t values) {
      first_.assign(values + 1, 0);
      for (const Written& w : written_) ++first_[w.value.index];
      uint32_t sum = 0;
      for (uint32_t& first : first_) first = sum += first;
      rows_.resize(written_.size());
      for (size_t k = written_.size(); k-- > 0;) rows_[--first_[written_[k].value.index]] = written_[k].entry;
    }
    std::span<const T> get(Value v) const {
      if (v.index + 1 >= first_.size()) return {};  // made since
      return std::span(rows_).subspan(first_[v.index], first_[v.index + 1] - first_[v.index]);
    }

   private:
    struct Written {
      Value value;
      T entry;
    };
    std::vector<Written> written_;
    std::vector<T> rows_;
    std::vector<uint32_t> first_;
  };

  FunctionContext& c_;
  Function& f_;
  const Dominators& dominators_;
  Table<Value, Number> facts_;
  Table<Value, unsigned> changes_;
  Table<Block, uint8_t> reached_, visited_;
  Table<Block, size_t> place_;  // in the order of blocks
  SideTable<Instruction, uint8_t> queued_;
  Lists<Refinement> refinements_;
  Lists<Value> dependents_;
  // Places of blocks that are reached and not visited yet, the first one on top.
  std::priority_queue<size_t, std::vector<size_t>, std::greater<>> blocks_;
  std::vector<Instruction> users_;
};

}  // namespace

void propagate(FunctionContext& c) { Propagator(c).run(); }

}  // namespace porphyry
