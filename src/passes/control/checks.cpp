// checks: branches whose way is known from branches above become plain jumps. First, checks that trap take
// over what later ones on the same straight way ask for, where nothing is seen from outside between. Then,
// along the dominator tree, each way out of a `when` leaves what its condition says: that it holds, and of a
// comparison of a sum with a constant (base + k against a limit), up to which k it holds. A later check of
// the same base and limit with a smaller k is decided. Bases are looked at before they are widened; a sum in
// the narrower width counts as one with its own base where a check of that base shows that it does not wrap.
// O(branches * depth of equal bases), each by hash.
#include <fmt/format.h>

#include <unordered_map>

#include "porphyry/analyze/number.h"
#include "porphyry/ir/edit.h"
#include "porphyry/ir/words.h"
#include "porphyry/optimize/pass.h"
#include "porphyry/print/print.h"

namespace porphyry {
namespace {

// wide + k, which does not wrap.
struct RootSum {
  Value wide;
  Bits k = 0;
  Value base;  // `wide`, or what that widens
  // The base as a sum in its own width, which may wrap; nothing when it is none.
  Value inner_base = {};
  Bits inner = 0;
};

// base + k > limit, or its opposite.
struct Check {
  RootSum sum;
  Value limit;
  bool exceeds = false;  // what the condition says where it is true
};

class Checker {
 public:
  explicit Checker(FunctionContext& c) : c_(c), f_(c.function), dominators_(c.facts.get<Dominators>()) {}

  void run() {
    find_limits();
    widen();
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
  // ---- checks that are met before anything is seen --------------------------------------------------------

  // Along blocks that nothing else leads into and in which nothing is seen from outside, a trap may come
  // earlier: the first check of a base takes over what the later ones ask for.
  void widen() {
    std::vector<uint8_t> done(f_.block_limit());
    for (Block b : dominators_.order()) {
      if (std::exchange(done[b.index], uint8_t(1))) continue;
      std::unordered_map<uint64_t, First> firsts;
      for (;;) {
        Instruction end = f_.terminator(b);
        Block next = end.exists() ? beyond(end, firsts) : Block();
        if (!next.exists() || f_.next_in(f_.first_in(next)).exists() || done[next.index]) break;
        done[next.index] = 1;
        if (shows_something(next)) firsts.clear();
        b = next;
      }
    }
  }

  struct First {
    Instruction at;
    Check check;
  };
  // Where a run goes on that does not trap.
  Block beyond(Instruction end, std::unordered_map<uint64_t, First>& firsts) {
    if (f_.op(end) == Op::Go) return f_.to(f_.edge(end, 0));
    if (f_.op(end) != Op::When) return {};
    unsigned trapping = only_traps(f_.to(f_.edge(end, 0))) ? 0 : 1;
    if (!only_traps(f_.to(f_.edge(end, trapping)))) return {};
    auto check = check_of(f_.operand(end, 0));
    if (check && check->exceeds == (trapping == 0)) {
      auto key = [&](Value base) { return uint64_t(base.index) << 32 | check->limit.index; };
      auto first = check->sum.inner_base.exists() ? firsts.find(key(check->sum.inner_base)) : firsts.end();
      if (first != firsts.end() && stays_apart(check->sum, first->second.check.sum.k, check->limit))
        check->sum.k += check->sum.inner;
      else
        first = firsts.try_emplace(key(check->sum.base), First{end, *check}).first;
      if (first->second.check.sum.k < check->sum.k) take_over(first->second, end, *check);
    }
    return f_.to(f_.edge(end, 1 - trapping));
  }
  bool only_traps(Block b) const {
    Instruction i = f_.first(b);
    return i.exists() && f_.op(i) == Op::Trap;
  }
  // Calls, volatile accesses and guarded stores count at a later trap.
  bool shows_something(Block b) const {
    for (Instruction i : f_.instructions(b)) {
      const OperationInfo& row = info(f_.op(i));
      if (row.calls() || row.marks()) return true;
      bool access = row.layout == Layout::Load || row.layout == Layout::Store || row.layout == Layout::Fill;
      if (access && (f_.address(i).is_volatile || (f_.address(i).guarded && row.writes_memory())))
        return true;
    }
    return false;
  }
  void take_over(First& first, Instruction later, const Check& check) {
    Value base = first.check.sum.wide;
    Type t = f_.type(base), truth = Type::boolean();
    Position position = f_.position(first.at);
    Value operands[] = {base, f_.constant(t, check.sum.k)};
    Instruction sum = f_.insert_before(first.at, {.op = Op::Add,
                                                  .operands = operands,
                                                  .results = {&t, 1},
                                                  .position = position,
                                                  .promises = promise::fits_u});
    Value compared[] = {f_.result(sum), check.limit};
    Instruction compare = f_.insert_before(first.at, {.op = first.check.exceeds ? Op::GtU : Op::LeU,
                                                      .operands = compared,
                                                      .results = {&truth, 1},
                                                      .position = position});
    if (c_.wants_notes())
      c_.done(
          position, c_.name(f_.operand(first.at, 0)),
          fmt::format("checks {} bytes instead of {}", uint64_t(check.sum.k), uint64_t(first.check.sum.k)),
          fmt::format("nothing is seen from outside before {}", write_text(c_.module, f_, later)));
    f_.set(f_.operand_slot(first.at, 0), f_.result(compare));
    first.check.sum.k = check.sum.k;
  }

  // ---- conditions -----------------------------------------------------------------------------------------

  bool adds_constant(Instruction d) const {
    return d.exists() && f_.op(d) == Op::Add && f_.is_constant(f_.operand(d, 1));
  }
  RootSum sum_of(Value v) const {
    RootSum out{.wide = v, .k = 0, .base = v};
    if (Instruction d = f_.definition(v); adds_constant(d)) {
      Number base = number_of(f_, f_.operand(d, 0));
      Bits k = f_.constant_word(f_.operand(d, 1));
      bool fits = (f_.promises(d) & promise::fits_u) ||
                  (base.exists() && base.width <= 64 && base.high + k <= mask_of(base.width));
      if (fits) out.wide = out.base = f_.operand(d, 0), out.k = k;
    }
    Instruction widened = f_.definition(out.wide);
    if (!widened.exists() || f_.op(widened) != Op::WidenU || !f_.type(f_.operand(widened, 0)).is_integer())
      return out;
    out.base = f_.operand(widened, 0);
    if (Instruction d = f_.definition(out.base); adds_constant(d))
      out.inner_base = f_.operand(d, 0), out.inner = f_.constant_word(f_.operand(d, 1));
    return out;
  }
  // Whether the inner sum does not wrap where its base plus `checked` is at most the limit.
  bool stays_apart(const RootSum& sum, Bits checked, Value limit) const {
    uint32_t place = place_.get(limit);
    if (!sum.inner_base.exists() || !place) return false;
    Bits most = most_of_[place - 1], highest = most > checked ? most - checked : 0;
    return highest + sum.inner <= mask_of(f_.type(sum.base).bits());
  }
  // The same with what the base is a sum of, where a check above shows that this does not wrap.
  std::optional<Check> with_inner_base(const Check& c, Block b) const {
    if (!c.sum.inner_base.exists()) return std::nullopt;
    auto at = checks_.find(c.sum.inner_base.index);
    if (at == checks_.end()) return std::nullopt;
    size_t looked_at = 0;
    for (size_t n = at->second.size(); n-- > 0 && looked_at < budget; ++looked_at) {
      const Fact& fact = at->second[n];
      if (fact.truth || !stays_apart(c.sum, fact.k, fact.limit) || !dominators_.dominates(fact.where, b))
        continue;
      Check out = c;
      out.sum = {.wide = {}, .k = c.sum.k + c.sum.inner, .base = c.sum.inner_base};
      return out;
    }
    return std::nullopt;
  }

  // Comparisons unsigned, and where both are known not to be negative, signed.
  std::optional<Check> check_of(Value condition) const {
    Instruction d = f_.definition(condition);
    if (!d.exists() || info(f_.op(d)).result != ResultRule::Truth || f_.type(condition).has_lanes())
      return std::nullopt;
    if (!f_.type(f_.operand(d, 0)).is_integer()) return std::nullopt;
    Value a = f_.operand(d, 0), b = f_.operand(d, 1);
    switch (f_.op(d)) {
      case Op::GtU: return Check{sum_of(a), b, true};
      case Op::LeU: return Check{sum_of(a), b, false};
      case Op::LtU: return Check{sum_of(b), a, true};
      case Op::GeU: return Check{sum_of(b), a, false};
      default: return std::nullopt;
    }
  }

  // ---- what is known --------------------------------------------------------------------------------------

  struct Fact {
    Block where;  // from this block on
    bool truth;   // Known conditions: which. Checks: whether it exceeds
    Bits k;
    Value limit;
    Instruction from;
  };

  // ---- limits that grow -----------------------------------------------------------------------------------

  // Loads of one place where only growing numbers stand, and block parameters that bring only such. Numbered
  // by place; 0: none. Parameters are taken for one of a place until something else is brought; each is
  // looked at again when one of its arguments is.
  void find_limits() {
    std::vector<Value> work;
    std::vector<std::pair<Value, int64_t>> places;
    auto found = [&](Value v, uint32_t place) { place_.set(v, place), work.push_back(v); };
    for (Block b : dominators_.order())
      for (Instruction i : f_.instructions(b)) {
        if (f_.op(i) != Op::Load) continue;
        const Address& a = f_.address(i);
        if (a.indexed || a.masked || a.is_volatile || !c_.module.kinds.grows(a.kind)) continue;
        std::pair<Value, int64_t> place{f_.operand(i, 0), a.offset};
        auto known = std::find(places.begin(), places.end(), place);
        if (known == places.end()) {
          known = places.insert(known, place);
          most_of_.push_back(c_.module.kinds.growing(a.kind)->most);
        }
        found(f_.result(i), static_cast<uint32_t>(known - places.begin()) + 1);
      }
    std::vector<Value> parameters;
    for (size_t k = 0; k < work.size(); ++k)
      for (Slot s : f_.uses(work[k])) {
        auto use = f_.use(s);
        if (!use.edge.exists()) continue;
        Value p = f_.parameters(f_.to(use.edge))[s.index - f_.argument_slot(use.edge, 0).index];
        if (!place_.get(p)) found(p, place_.get(work[k])), parameters.push_back(p);
      }
    for (size_t k = 0; k < parameters.size(); ++k) {
      Value p = parameters[k];
      if (!place_.get(p)) continue;
      bool all = true;
      for (Edge e : f_.edges_into(f_.defining_block(p)))
        all &= place_.get(f_.argument(e, f_.result_index(p))) == place_.get(p);
      if (all) continue;
      place_.set(p, 0);
      for (Slot s : f_.uses(p))
        if (auto use = f_.use(s); use.edge.exists())
          parameters.push_back(f_.parameters(f_.to(use.edge))[s.index - f_.argument_slot(use.edge, 0).index]);
    }
  }

  // Whether a limit is never below another one: the same, or of its place and read later on every way. Block
  // parameters are followed to what they bring, as far as the earlier one is above them.
  bool not_below(Value later, Value earlier) {
    if (later == earlier) return true;
    if (!place_.get(later) || place_.get(later) != place_.get(earlier)) return false;
    auto [known, is_new] = not_below_.try_emplace(uint64_t(later.index) << 32 | earlier.index, false);
    if (is_new) known->second = all_read_later(later, earlier);
    return known->second;
  }
  bool all_read_later(Value later, Value earlier) const {
    Block above = f_.defining_block(earlier);
    std::vector<Value> seen{later};
    for (size_t k = 0; k < seen.size(); ++k) {
      if (k == budget) return false;
      Value v = seen[k];
      if (Instruction load = f_.definition(v); load.exists()) {
        if (!dominators_.available(f_, earlier, load)) return false;
        continue;
      }
      Block b = f_.defining_block(v);
      if (above == b || !dominators_.dominates(above, b)) return false;
      for (Edge e : f_.edges_into(b))
        if (Value w = f_.argument(e, f_.result_index(v));
            w != earlier && std::find(seen.begin(), seen.end(), w) == seen.end())
          seen.push_back(w);
    }
    return true;
  }

  void leave(Instruction i) {
    Value condition = f_.operand(i, 0);
    auto check = check_of(condition), inner = check ? with_inner_base(*check, f_.block(i)) : std::nullopt;
    for (unsigned way = 0; way < 2; ++way) {
      Block to = f_.to(f_.edge(i, way));
      if (!(dominators_.only_way_in(f_, to) == f_.edge(i, way))) continue;
      conditions_[condition.index].push_back({to, way == 0, 0, {}, i});
      for (const auto& c : {check, inner})
        if (c) checks_[c->sum.base.index].push_back({to, (way == 0) == c->exceeds, c->sum.k, c->limit, i});
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
    auto check = check_of(condition);
    if (!check) return std::nullopt;
    if (auto answer = implied(*check, b)) return answer;
    auto inner = with_inner_base(*check, b);
    return inner ? implied(*inner, b) : std::nullopt;
  }
  std::optional<Answer> implied(const Check& check, Block b) {
    auto at = checks_.find(check.sum.base.index);
    if (at == checks_.end()) return std::nullopt;
    // The newest first: the nearest above.
    size_t looked_at = 0;
    for (size_t n = at->second.size(); n-- > 0 && looked_at < budget; ++looked_at) {
      const Fact& fact = at->second[n];
      bool holds = fact.truth ? check.sum.k >= fact.k : check.sum.k <= fact.k;
      holds = holds && (fact.truth ? not_below(fact.limit, check.limit) : not_below(check.limit, fact.limit));
      if (holds && dominators_.dominates(fact.where, b))
        return Answer{fact.truth == check.exceeds, fact.from};
    }
    return std::nullopt;
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
  SideTable<Value, uint32_t> place_;              // by limits that grow
  std::vector<Bits> most_of_;                     // by place less one: the most that its limits are
  std::unordered_map<uint64_t, bool> not_below_;  // by the two limits
  std::unordered_map<uint32_t, std::vector<Fact>> conditions_;
  std::unordered_map<uint32_t, std::vector<Fact>> checks_;  // by base
};

}  // namespace

void checks(FunctionContext& c) { Checker(c).run(); }

}  // namespace porphyry
