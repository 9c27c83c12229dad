// A rewrite rule as a question to a solver: are there operands for which the conditions hold, no promise of
// the pattern is broken, and the replacement traps otherwise, differs, or breaks a promise? Types are given
// from outside, a class each.
#pragma once

#include <fmt/format.h>

#include <functional>

#include "porphyry/ir/typing.h"
#include "porphyry/ir/words.h"
#include "porphyry/prove/promises.h"
#include "porphyry/rewrite/rule.h"

namespace porphyry::testing {

using prove::Algebra;

// Whether types given by class make the pattern's instructions right, and the conditions on types hold.
class RuleTypes {
 public:
  RuleTypes(const rewrite::RuleTable& table, const rewrite::Rule& rule) : table_(table), rule_(rule) {}

  Type of(const rewrite::Term& t, const std::vector<Type>& types) const { return types[t.type]; }

  // Classes that follow from others are filled in; false when the rule is not for these types.
  bool settle(std::vector<Type>& types) const {
    for (unsigned round = 0; round < types.size(); ++round)
      for (size_t k = 0; k < types.size(); ++k) {
        const rewrite::TypeClass& c = table_.types[rule_.first_type + k];
        if (c.relation == rewrite::Relation::Free || !types[c.of].exists()) continue;
        Type of = types[c.of];
        types[k] = c.relation == rewrite::Relation::TruthOf     ? Type::boolean().with_lanes(of.lanes())
                   : c.relation == rewrite::Relation::ElementOf ? of.element()
                                                                : of.with_lanes(2 * of.lanes());
      }
    if (!fits(rule_.pattern, types)) return false;
    for (size_t k = 0; k < types.size(); ++k)
      if (table_.types[rule_.first_type + k].relation == rewrite::Relation::Free &&
          !(rule_.shapes >> static_cast<unsigned>(types[k].shape()) & 1))
        return false;
    for (unsigned k = 0; k < rule_.condition_count; ++k)
      if (!holds(table_.conditions[rule_.first_condition + k], types)) return false;
    return true;
  }

  bool fits(uint16_t term, const std::vector<Type>& types) const {
    const rewrite::Term& t = table_.terms[term];
    if (t.kind == rewrite::TermKind::Literal)
      return types[t.type].is_float() == t.is_real && !types[t.type].is_pointer();
    if (t.kind != rewrite::TermKind::Operation) return types[t.type].exists();
    std::vector<Type> operands;
    for (unsigned k = 0; k < t.operand_count; ++k) {
      if (!fits(t.operands[k], types)) return false;
      operands.push_back(types[table_.terms[t.operands[k]].type]);
    }
    Type results[2];
    if (typing_problem(t.op, operands, {})) return false;
    unsigned count = result_types(t.op, operands, types[t.type], results);
    if (results[0] != types[t.type]) return false;
    return !typing_problem(t.op, operands, {results, count});
  }

 private:
  bool holds(const rewrite::Condition& c, const std::vector<Type>& types) const {
    using rewrite::ConditionKind;
    switch (c.kind) {
      case ConditionKind::Equal: return types[c.a] == types[c.b];
      case ConditionKind::Narrower: return types[c.a].bits() < types[c.b].bits();
      case ConditionKind::NotWider: return types[c.a].bits() <= types[c.b].bits();
      case ConditionKind::Wider: return types[c.a].bits() > c.b;
      case ConditionKind::IsShape: return c.b >> static_cast<unsigned>(types[c.a].shape()) & 1;
      default: return true;
    }
  }

  const rewrite::RuleTable& table_;
  const rewrite::Rule& rule_;
};

class RuleProof {
 public:
  enum class Verdict { Proved, Refuted, TooHard, NeverApplies };
  using Term = Algebra::Term;

  RuleProof(z3::context& context, const rewrite::RuleTable& table, const rewrite::Rule& rule,
            std::vector<Type> types)
      : c_(context),
        table_(table),
        rule_(rule),
        types_(std::move(types)),
        algebra_(context),
        assumed_(c_.bool_val(true)),
        bindings_(rule.binding_count) {}

  Verdict run(unsigned milliseconds, bool must_apply) {
    Term left_trap = c_.bool_val(false), right_trap = c_.bool_val(false);
    std::vector<Term> left = pattern(rule_.pattern, &left_trap);
    for (unsigned k = 0; k < rule_.condition_count; ++k)
      condition(table_.conditions[rule_.first_condition + k]);
    Term good = c_.bool_val(true);
    std::vector<std::optional<Term>> right(2);
    for (unsigned k = 0; k < 2; ++k)
      if (rule_.becomes[k] != rewrite::no_term)
        right[k] = replacement(rule_.becomes[k], right_trap, good, k == 0);
    if (!possible_) return Verdict::NeverApplies;
    for (unsigned k = 0; k < 2; ++k)
      if (right[k]) good = good && left[k] == *right[k];
    z3::solver solver = quick_solver(milliseconds);
    z3::params p(c_);
    p.set("timeout", milliseconds);
    solver.set(p);
    solver.add(assumed_);
    if (must_apply && solver.check() == z3::unsat) return Verdict::NeverApplies;
    Term differs = !(left_trap == right_trap && (left_trap || good));
    solver.add(differs);
    z3::check_result answer = solver.check();
    if (answer != z3::unknown) return judged(answer, solver);
    // Products that only stand elsewhere are the same term to a solver that does not go down to bits at once.
    z3::solver algebraic(c_);
    algebraic.set(p);
    algebraic.add(assumed_);
    algebraic.add(differs);
    return judged(algebraic.check(), algebraic);
  }

  // When it is refuted: a module in the text form whose `before` and `after` differ for the arguments in its
  // comment.
  std::string counterexample;

 private:
  using TermKind = rewrite::TermKind;

  Verdict judged(z3::check_result answer, z3::solver& solver) {
    if (answer == z3::unsat) return Verdict::Proved;
    if (answer == z3::unknown) return Verdict::TooHard;
    tell(solver.get_model());
    return Verdict::Refuted;
  }
  z3::solver quick_solver(unsigned milliseconds) {
    z3::tactic all(c_, "simplify");
    for (const char* next : {"solve-eqs", "simplify", "bit-blast", "sat"}) all = all & z3::tactic(c_, next);
    return z3::try_for(all, milliseconds).mk_solver();
  }
  Type type(const rewrite::Term& t) const { return types_[t.type]; }

  Term literal(const rewrite::Term& t) {
    Type of = type(t);
    switch (t.kind) {
      case TermKind::Width: {
        unsigned width = types_[t.of_type].bits();
        if (of.bits() < 8 && (width >> of.bits()) != 0) possible_ = false;
        return lanes(algebra_.number(of.bits(), width), of);
      }
      case TermKind::Least:
        return lanes(z3::shl(algebra_.number(of.bits(), 1), algebra_.number(of.bits(), of.bits() - 1)), of);
      case TermKind::Most:
        return lanes(~z3::shl(algebra_.number(of.bits(), 1), algebra_.number(of.bits(), of.bits() - 1)), of);
      default: break;
    }
    Term low = c_.bv_val(static_cast<int64_t>(t.number), 64);
    return lanes(Algebra::sign_extend(low, of.bits()), of);
  }
  Term lanes(const Term& one, Type of) { return of.has_lanes() ? algebra_.repeated(one, of.lanes()) : one; }

  // Results of a pattern's term. What is inside it ran without a trap; `trap` is the root's.
  std::vector<Term> pattern(uint16_t term, Term* trap) {
    const rewrite::Term& t = table_.terms[term];
    if (t.kind == TermKind::Value || t.kind == TermKind::Constant) {
      auto& b = bindings_[t.binding];
      if (!b) b = algebra_.fresh("v", type(t).total_bits());
      return {*b};
    }
    if (t.kind != TermKind::Operation) return {literal(t)};
    std::vector<Term> in;
    for (unsigned k = 0; k < t.operand_count; ++k) in.push_back(pattern(t.operands[k], nullptr)[0]);
    Term traps = c_.bool_val(false);
    std::vector<Term> out = apply(t, in, traps);
    assumed_ = assumed_ && (traps || promised(t, t.promises, in));
    if (term == rule_.pattern)
      for (uint8_t bit = 1; bit; bit = static_cast<uint8_t>(bit << 1))
        if (rule_.keeps & bit) kept_.emplace_back(bit, promised(t, bit, in));
    if (trap)
      *trap = traps;
    else
      assumed_ = assumed_ && !traps;
    if (t.binding != rewrite::none) bindings_[t.binding] = out[0];
    return out;
  }

  Term replacement(uint16_t term, Term& trap, Term& good, bool root) {
    const rewrite::Term& t = table_.terms[term];
    if (t.kind == TermKind::Value || (t.kind == TermKind::Constant)) return *bindings_[t.binding];
    if (t.computed) return computed(term);
    if (t.kind != TermKind::Operation) return literal(t);
    std::vector<Term> in;
    for (unsigned k = 0; k < t.operand_count; ++k)
      in.push_back(replacement(t.operands[k], trap, good, false));
    std::vector<Term> out = apply(t, in, trap);
    good = good && promised(t, t.promises, in);
    if (root)
      for (auto& [bit, held] : kept_) good = good && z3::implies(held, promised(t, bit, in));
    return out[0];
  }

  Term computed(uint16_t term) {
    const rewrite::Term& t = table_.terms[term];
    if (t.kind == TermKind::Value || t.kind == TermKind::Constant) return *bindings_[t.binding];
    if (t.kind != TermKind::Operation) return literal(t);
    std::vector<Term> in;
    for (unsigned k = 0; k < t.operand_count; ++k) in.push_back(computed(t.operands[k]));
    Term traps = c_.bool_val(false);
    Term out = apply(t, in, traps)[0];
    assumed_ = assumed_ && !traps;
    return out;
  }

  void condition(const rewrite::Condition& c) {
    if (c.kind != rewrite::ConditionKind::Holds && c.kind != rewrite::ConditionKind::Known) return;
    Term t = computed(c.term);
    assumed_ = assumed_ && ~t == algebra_.number(Algebra::bits(t), 0);  // in all lanes
  }

  std::vector<Term> apply(const rewrite::Term& t, const std::vector<Term>& in, Term& traps) {
    std::vector<Type> types;
    for (unsigned k = 0; k < t.operand_count; ++k) types.push_back(type(table_.terms[t.operands[k]]));
    if (info(t.op).result_count() == 2) return algebra_.two(t.op, in);
    if (info(t.op).layout == Layout::Reduce && t.op != Op::Any && t.op != Op::All) {
      Op join = joining_op(t.op);
      Type e = types[0].element();
      Term out = Algebra::lane_of(in[0], 0, e.bits());
      for (unsigned k = 1; k < types[0].lanes(); ++k)
        out = *algebra_.apply(join, {e, e}, e, {out, Algebra::lane_of(in[0], k, e.bits())}, traps);
      return {out};
    }
    auto out = algebra_.apply(t.op, types, type(t), in, traps);
    if (!out) throw std::logic_error(fmt::format("the algebra lacks {}", info(t.op).name));
    return {*out};
  }

  // That promises hold, written down from the language's page.
  Term promised(const rewrite::Term& t, uint8_t promises, const std::vector<Term>& in) {
    Term out = c_.bool_val(true);
    if (!promises) return out;
    Type from = type(table_.terms[t.operands[0]]), to = type(t);
    for (unsigned lane = 0; lane < from.lanes(); ++lane) {
      std::vector<Term> v;
      for (const Term& x : in) v.push_back(Algebra::lane_of(x, lane, from.bits()));
      out = out && prove::Promises(algebra_).kept(t.op, promises, v, to.bits());
    }
    return out;
  }

  // ---- a counterexample as a program ----------------------------------------------------------------------

  void tell(const z3::model& m) {
    std::string parameters, arguments;
    for (unsigned b = 0; b < rule_.binding_count; ++b) {
      if (!bindings_[b] || !is_input(b)) continue;
      Type t = input_type(b);
      if (!parameters.empty()) parameters += ", ", arguments += " ";
      parameters += fmt::format("v{}: {}", b, t.name());
      std::string word = m.eval(*bindings_[b], true).get_decimal_string(0);
      arguments += t.has_lanes() ? "?" : t.is_bool() ? (word == "1" ? "true" : "false") : word;
    }
    next_ = 0;
    std::string before, after;
    std::string left = written(rule_.pattern, before, true), right;
    for (unsigned k = 0; k < 2; ++k)
      if (rule_.becomes[k] != rewrite::no_term)
        right += (right.empty() ? "" : ", ") + written(rule_.becomes[k], after, false);
    const rewrite::Term& root = table_.terms[rule_.pattern];
    std::string results = types_[root.type].name();
    if (info(root.op).result_count() == 2 && rule_.becomes[0] != rewrite::no_term &&
        rule_.becomes[1] != rewrite::no_term) {
      results += ", " + (info(root.op).result == ResultRule::SameTruth ? std::string("bool") : results);
      left += ", " + left + "_2";
    }
    counterexample = fmt::format(
        "-- {0}\n-- run before {1}\n-- run after {1}\nmodule wrong_rule\nlayout little\n\nfunc before({2}) "
        "-> {3} {{\nb0:\n{4}  "
        "return {5}\n}}\n\nfunc after({2}) -> {3} {{\nb0:\n{6}  return {7}\n}}\n",
        rule_.text, arguments, parameters, results, before, left, after, right);
  }
  bool is_input(unsigned b) const { return input_term(b) != rewrite::no_term; }
  uint16_t input_term(unsigned b) const {
    std::function<uint16_t(uint16_t)> find = [&](uint16_t term) -> uint16_t {
      const rewrite::Term& t = table_.terms[term];
      if (t.kind == TermKind::Value || t.kind == TermKind::Constant)
        return t.binding == b ? term : rewrite::no_term;
      for (unsigned k = 0; k < t.operand_count; ++k)
        if (uint16_t found = find(t.operands[k]); found != rewrite::no_term) return found;
      return rewrite::no_term;
    };
    return find(rule_.pattern);
  }
  Type input_type(unsigned b) const { return types_[table_.terms[input_term(b)].type]; }

  std::string written(uint16_t term, std::string& lines, bool left) {
    const rewrite::Term& t = table_.terms[term];
    if (t.kind == TermKind::Value || t.kind == TermKind::Constant)
      if (is_input(t.binding)) return fmt::format("v{}", t.binding);
    Type of = type(t);
    if (t.kind == TermKind::Value) return written(named(rule_.pattern, t.binding), lines, left);
    if (t.kind == TermKind::Literal)
      return of.is_bool() ? (t.number ? "true" : "false") : fmt::format("{}:{}", t.number, of.name());
    if (t.kind == TermKind::Width) return fmt::format("{}:{}", types_[t.of_type].bits(), of.name());
    if (t.kind == TermKind::Least) return fmt::format("-{}:{}", uint64_t(1) << (of.bits() - 1), of.name());
    if (t.kind == TermKind::Most)
      return fmt::format("{}:{}", (uint64_t(1) << (of.bits() - 1)) - 1, of.name());
    std::string operands;
    for (unsigned k = 0; k < t.operand_count; ++k)
      operands += (k ? ", " : "") + written(t.operands[k], lines, left);
    std::string name = fmt::format("{}{}", left ? "a" : "c", next_++),
                stated = info(info(t.op).layout).stated ? of.name() + " " : "";
    std::string names = info(t.op).result_count() == 2 ? name + ", " + name + "_2" : name;
    std::string promises = t.promises ? " promise " + words_of(t.promises, promise_words()) : "";
    lines += fmt::format("  {} = {} {}{}{}\n", names, info(t.op).name, stated, operands, promises);
    return name;
  }
  uint16_t named(uint16_t term, uint8_t binding) const {
    const rewrite::Term& t = table_.terms[term];
    if (t.kind != TermKind::Operation) return rewrite::no_term;
    if (t.binding == binding) return term;
    for (unsigned k = 0; k < t.operand_count; ++k)
      if (uint16_t found = named(t.operands[k], binding); found != rewrite::no_term) return found;
    return rewrite::no_term;
  }

  z3::context& c_;
  const rewrite::RuleTable& table_;
  const rewrite::Rule& rule_;
  std::vector<Type> types_;
  Algebra algebra_;
  Term assumed_;
  bool possible_ = true;
  std::vector<std::optional<Term>> bindings_;
  std::vector<std::pair<uint8_t, Term>> kept_;
  unsigned next_ = 0;
};

}  // namespace porphyry::testing
