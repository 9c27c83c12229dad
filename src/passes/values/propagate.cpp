// propagate: integers that are constant on every way that can be taken become constants.
//
// Facts of integers (analyze/number.h) flow from definitions to uses and along edges that may be taken; a
// branch is taken only where its condition may hold, and behind it the operands of its comparison are known
// better. Facts only ever become weaker; bounds of block parameters that keep changing are given up, so each
// value changes a bounded number of times. M. Wegman, K. Zadeck, "Constant Propagation with Conditional
// Branches", 1991; bounds as in J. Patterson, "Accurate Static Branch Prediction by Value Range Propagation",
// 1995. O(uses * changes).
#include <fmt/format.h>

#include "porphyry/analyze/number.h"
#include "porphyry/ir/edit.h"
#include "porphyry/ir/relatives.h"
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
        reached_(f_.block_limit()) {}

  void run() {
    find_comparisons();
    reach(f_.entry());
    while (!blocks_.empty() || !users_.empty()) {
      if (!blocks_.empty()) {
        Block b = blocks_.back();
        blocks_.pop_back();
        for (Instruction i : f_.instructions(b)) visit(i);
      } else {
        Instruction i = users_.back();
        users_.pop_back();
        queued_.set(i, 0);
        if (reached_[f_.block(i)]) visit(i);
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
      Instruction i = f_.terminator(b);
      if (!i.exists() || f_.op(i) != Op::When) continue;
      Value condition = f_.operand(i, 0);
      if (auto c = comparison(condition, true))
        dependents_.at(c->b).push_back(c->a), dependents_.at(c->a).push_back(c->b);
      for (unsigned way = 0; way < 2; ++way) {
        Block to = f_.to(f_.edge(i, way));
        if (f_.next_in(f_.first_in(to)).exists()) continue;
        refine_from(to, condition, way == 0);
      }
    }
  }
  struct Comparison {
    Op op;
    Value a, b;
  };
  std::optional<Comparison> comparison(Value condition, bool holds) const {
    Instruction d = f_.definition(condition);
    if (!d.exists() || info(f_.op(d)).result != ResultRule::Truth || f_.type(condition).has_lanes())
      return std::nullopt;
    if (!is_number(f_.operand(d, 0))) return std::nullopt;
    return Comparison{holds ? f_.op(d) : relatives_of(f_.op(d))->opposite, f_.operand(d, 0),
                      f_.operand(d, 1)};
  }
  void refine_from(Block from, Value condition, bool holds) {
    auto c = comparison(condition, holds);
    if (!c) return;
    if (!f_.is_constant(c->a)) refinements_.at(c->a).push_back({from, c->op, c->b});
    if (!f_.is_constant(c->b)) refinements_.at(c->b).push_back({from, relatives_of(c->op)->mirrored, c->a});
  }

  // A fact of a value in a block; one that does not exist: nothing reached its definition yet.
  Number fact(Value v, Block where) const {
    if (!is_number(v)) return {};
    if (f_.is_constant(v)) return number_of(f_, v, 0);
    Number out = facts_[v];
    if (!out.exists()) return out;
    const auto& list = refinements_.get(v);
    size_t used = 0;
    for (size_t k = list.size(); k-- > 0 && used < most_refinements;) {
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
    auto c = comparison(f_.operand(i, 0), f_.edge(i, 0) == e);
    if (!c) return out;
    Number a = fact(c->a, f_.from(e)), b = fact(c->b, f_.from(e));
    if (c->a == v && b.exists()) return refined(out, c->op, b);
    if (c->b == v && a.exists()) return refined(out, relatives_of(c->op)->mirrored, a);
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
      if (queued_.get(i)) continue;
      queued_.set(i, 1);
      users_.push_back(i);
    }
  }

  void reach(Block b) {
    if (std::exchange(reached_[b], uint8_t(1))) return;
    for (Value p : f_.parameters())
      if (b == f_.entry() && is_number(p)) weaken(p, Number::any(f_.type(p).bits()));
    blocks_.push_back(b);
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
        if (f_.result_count(i) && info(f_.op(i)).is_plain()) constant(f_.result(i), i);
      decide(f_.terminator(b), b);
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

  static constexpr size_t most_refinements = 4;  // of one value in one place
  static constexpr unsigned most_changes = 4;
  // Side tables whose rows are lists.
  struct Lists {
    std::vector<std::vector<Refinement>> rows;
    std::vector<Refinement>& at(Value v) {
      if (v.index >= rows.size()) rows.resize(v.index + 1);
      return rows[v.index];
    }
    std::span<const Refinement> get(Value v) const {
      return v.index < rows.size() ? std::span<const Refinement>(rows[v.index])
                                   : std::span<const Refinement>();
    }
  };
  struct ValueLists {
    std::vector<std::vector<Value>> rows;
    std::vector<Value>& at(Value v) {
      if (v.index >= rows.size()) rows.resize(v.index + 1);
      return rows[v.index];
    }
    std::span<const Value> get(Value v) const {
      return v.index < rows.size() ? std::span<const Value>(rows[v.index]) : std::span<const Value>();
    }
  };

  FunctionContext& c_;
  Function& f_;
  const Dominators& dominators_;
  Table<Value, Number> facts_;
  Table<Value, unsigned> changes_;
  Table<Block, uint8_t> reached_;
  SideTable<Instruction, uint8_t> queued_;
  Lists refinements_;
  ValueLists dependents_;
  std::vector<Block> blocks_;
  std::vector<Instruction> users_;
};

}  // namespace

void propagate(FunctionContext& c) { Propagator(c).run(); }

}  // namespace porphyry
