// checks: branches whose way is known from branches above become plain jumps. Along the dominator tree, each
// way out of a `when` leaves what its condition says: that it holds, and of a check of bounds, which one. A
// later check of the same base that lies in it is decided. O(branches * depth of equal bases), each by hash.
#include <fmt/format.h>

#include <unordered_map>

#include "porphyry/analyze/bounds.h"
#include "porphyry/ir/edit.h"
#include "porphyry/optimize/pass.h"
#include "porphyry/print/print.h"

namespace porphyry {
namespace {

class Checker {
 public:
  explicit Checker(FunctionContext& c)
      : c_(c), f_(c.function), dominators_(c.facts.get<Dominators>()), limits_(c.module, c.function) {}

  void run() {
    for (Block b : dominators_.order()) {
      Instruction i = f_.terminator(b);
      if (!i.exists() || f_.op(i) != Op::When || f_.is_constant(f_.operand(i, 0))) continue;
      if (auto way = decided(b, f_.operand(i, 0)))
        settle(i, *way);
      else
        leave(i);
    }
  }

 private:
  struct Fact {
    Block where;  // from this block on
    bool truth;   // Known conditions: which. Checks: whether it exceeds
    Bound bound;  // of checks
    Instruction from;
  };

  bool not_below(Value later, Value earlier) {
    if (later == earlier) return true;
    if (!limits_.same_place(later, earlier)) return false;
    auto [known, is_new] = not_below_.try_emplace(uint64_t(later.index) << 32 | earlier.index, false);
    if (is_new) known->second = limits_.never_below(f_, dominators_, later, earlier);
    return known->second;
  }

  void leave(Instruction i) {
    Value condition = f_.operand(i, 0);
    auto check = bound_check(f_, condition);
    for (unsigned way = 0; way < 2; ++way) {
      Block to = f_.to(f_.edge(i, way));
      if (!(dominators_.only_way_in(f_, to) == f_.edge(i, way))) continue;
      conditions_[condition.index].push_back({to, way == 0, {}, i});
      if (check)
        checks_[check->bound.root.index].push_back({to, (way == 0) == check->exceeds, check->bound, i});
    }
  }

  struct Answer {
    bool truth;
    Instruction from;
  };
  std::optional<Answer> decided(Block b, Value condition) {
    if (auto at = conditions_.find(condition.index); at != conditions_.end())
      for (size_t n = at->second.size(), left = budget; n-- > 0 && left-- > 0;)
        if (const Fact& fact = at->second[n]; dominators_.dominates(fact.where, b))
          return Answer{fact.truth, fact.from};
    auto check = bound_check(f_, condition);
    return check ? implied(*check, b) : std::nullopt;
  }
  std::optional<Answer> implied(const BoundCheck& check, Block b) {
    auto at = checks_.find(check.bound.root.index);
    if (at == checks_.end()) return std::nullopt;
    // The newest first: the nearest above.
    size_t looked_at = 0;
    for (size_t n = at->second.size(); n-- > 0 && looked_at < budget; ++looked_at) {
      const Fact& fact = at->second[n];
      if (follows(check.bound, fact) && dominators_.dominates(fact.where, b))
        return Answer{fact.truth == check.exceeds, fact.from};
    }
    return std::nullopt;
  }
  // Whether what a fact says of its bound is so of another one.
  bool follows(const Bound& bound, const Fact& fact) {
    if (fact.truth)
      return bound.offset == fact.bound.offset && bound.bytes >= fact.bound.bytes &&
             not_below(fact.bound.limit, bound.limit);
    return implies(f_, fact.bound, bound) && not_below(bound.limit, fact.bound.limit);
  }

  void settle(Instruction i, const Answer& answer) {
    Edge taken = f_.edge(i, answer.truth ? 0 : 1);
    if (c_.wants_notes())
      c_.done(f_.position(i), c_.name(f_.operand(i, 0)),
              "always goes to " + block_text(c_.module, f_, f_.to(taken)),
              fmt::format("a check above decides it: {}", write_text(c_.module, f_, answer.from)));
    always_take(f_, taken);
  }

  static constexpr size_t budget = 64;  // facts of one condition or base that are looked at, the newest first
  FunctionContext& c_;
  Function& f_;
  const Dominators& dominators_;
  const GrowingLimits limits_;
  std::unordered_map<uint64_t, bool> not_below_;  // by the two limits
  std::unordered_map<uint32_t, std::vector<Fact>> conditions_;
  std::unordered_map<uint32_t, std::vector<Fact>> checks_;  // by root
};

}  // namespace

void checks(FunctionContext& c) { Checker(c).run(); }

}  // namespace porphyry
