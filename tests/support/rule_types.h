// Proves a rule for every type that it is for.
#pragma once

#include "support/rule_proof.h"
#include "support/small_float.h"

namespace porphyry::testing {

struct Widths {
  std::vector<unsigned> one, two, three;  // for rules with so many types of their own
  bool floats_too = true;                 // of six and eight bits, not just of four
};
// All to 16, 32 and 64.
inline Widths report_widths() {
  Widths w;
  for (unsigned k = 2; k <= 16; ++k) w.one.push_back(k);
  w.two = w.one;
  for (unsigned k = 2; k <= 8; ++k) w.three.push_back(k);
  for (auto* list : {&w.one, &w.two, &w.three}) list->push_back(32), list->push_back(64);
  return w;
}
// The part that tests do.
inline Widths tested_widths() { return {{2, 3, 4, 5, 8, 16}, {2, 3, 4, 8}, {2, 3, 4}}; }

struct RuleVerdict {
  size_t proved = 0;              // for so many choices of types
  std::string how;                // " by every operand" where no solver was asked
  std::vector<std::string> hard;  // types for which the solver gave up
  std::string refuted;            // a counterexample; empty otherwise
};

inline bool rule_of_floats(const rewrite::Rule& r) {
  return r.shapes == 1 << static_cast<unsigned>(Shape::Float);
}
inline bool rule_of_lanes(const rewrite::RuleTable& table, uint16_t term) {
  const rewrite::Term& t = table.terms[term];
  if (t.kind != rewrite::TermKind::Operation) return false;
  Layout l = info(t.op).layout;
  bool out = l == Layout::Splat || l == Layout::Lane || l == Layout::Put || l == Layout::Reduce ||
             l == Layout::Interleave;
  for (unsigned k = 0; k < t.operand_count; ++k) out |= rule_of_lanes(table, t.operands[k]);
  return out;
}

template <class Visit>
void each_typing(const rewrite::RuleTable& table, const rewrite::Rule& rule, const Widths& widths,
                 Visit visit) {
  RuleTypes checker(table, rule);
  std::vector<size_t> free;
  for (size_t k = 0; k < rule.type_count; ++k)
    if (table.types[rule.first_type + k].relation == rewrite::Relation::Free) free.push_back(k);
  bool lanes = rule_of_lanes(table, rule.pattern);
  const auto& list = free.size() <= 1 ? widths.one : free.size() == 2 ? widths.two : widths.three;
  std::vector<Type> candidates{Type::boolean()};
  for (unsigned w : list) candidates.push_back(Type::integer(w));
  if (rule.shapes >> static_cast<unsigned>(Shape::Float) & 1)
    for (Type t : {Type::f32(), Type::f64(), Type::integer(32), Type::integer(64)}) candidates.push_back(t);
  if (lanes) {
    candidates = {Type::boolean(), Type::integer(2), Type::integer(3), Type::integer(8)};
    for (unsigned n : {2u, 3u, 4u})
      for (Type t : {Type::boolean(), Type::integer(3), Type::integer(8)})
        candidates.push_back(t.with_lanes(n));
  }
  std::vector<Type> types(rule.type_count);
  std::function<void(size_t)> choose = [&](size_t k) {
    if (k < free.size()) {
      for (Type t : candidates) types[free[k]] = t, choose(k + 1);
      return;
    }
    std::vector<Type> all = types;
    if (checker.settle(all)) visit(all);
  };
  choose(0);
}

// Every operand of a small format.
class FloatTrial {
 public:
  FloatTrial(const rewrite::RuleTable& table, const rewrite::Rule& rule, SmallFloats floats)
      : table_(table), rule_(rule), floats_(floats), values_(rule.binding_count) {}

  // What is wrong; empty when nothing is.
  std::string run() { return choose(0); }
  size_t tried = 0;
  unsigned inputs() const {
    unsigned n = 0;
    for (unsigned b = 0; b < rule_.binding_count; ++b) n += input(rule_.pattern, b);
    return n;
  }

 private:
  using Set = SmallFloats::Set;
  using TermKind = rewrite::TermKind;
  bool input(uint16_t term, unsigned b) const {
    const rewrite::Term& t = table_.terms[term];
    if (t.kind == TermKind::Value || t.kind == TermKind::Constant) return t.binding == b;
    for (unsigned k = 0; k < t.operand_count; ++k)
      if (input(t.operands[k], b)) return true;
    return false;
  }

  std::string choose(unsigned b) {
    if (b == rule_.binding_count) return compare();
    if (!input(rule_.pattern, b)) return choose(b + 1);
    for (unsigned v = 0; v < floats_.count(); ++v) {
      values_[b] = v;
      if (std::string wrong = choose(b + 1); !wrong.empty()) return wrong;
    }
    return "";
  }
  std::string compare() {
    for (unsigned k = 0; k < rule_.condition_count; ++k) {
      const rewrite::Condition& c = table_.conditions[rule_.first_condition + k];
      if (c.kind == rewrite::ConditionKind::Holds && evaluate(c.term, 0) != Set(2)) return "";
    }
    ++tried;
    uint8_t permits = asked(rule_.pattern);
    Set before = evaluate(rule_.pattern, permits), after = evaluate(rule_.becomes[0], permits);
    if ((after & ~before).none()) return "";
    std::string out = std::string(rule_.text) + ": ";
    for (unsigned v : values_) out += fmt::format("{:#x} ({}) ", v, floats_.value(v));
    return out + fmt::format("gives {} instead of {}", after.to_string().substr(0, 0) + listed(after),
                             listed(before));
  }
  std::string listed(const Set& s) const {
    std::string out;
    for (unsigned v = 0; v < 256 && out.size() < 60; ++v)
      if (s[v]) out += fmt::format("{:#x} ", v);
    return out;
  }
  uint8_t asked(uint16_t term) const { return table_.terms[term].permits; }

  // All instructions of the pattern have the permits that it asks for; a replacement's get what all had.
  Set evaluate(uint16_t term, uint8_t permits) const {
    const rewrite::Term& t = table_.terms[term];
    if (t.kind == TermKind::Value || t.kind == TermKind::Constant) return floats_.one(values_[t.binding]);
    if (t.kind == TermKind::Literal) {
      double d;
      if (!t.is_real) return floats_.one(static_cast<unsigned>(t.number & 1));
      std::memcpy(&d, &t.number, 8);
      return floats_.one(floats_.rounded(d));
    }
    std::vector<Set> in;
    for (unsigned k = 0; k < t.operand_count; ++k)
      in.push_back(evaluate(t.operands[k], t.computed ? 0 : inner(t, permits)));
    return floats_.apply(t.op, t.computed ? 0 : permits, in);
  }
  uint8_t inner(const rewrite::Term&, uint8_t) const { return 0; }

  const rewrite::RuleTable& table_;
  const rewrite::Rule& rule_;
  SmallFloats floats_;
  std::vector<unsigned> values_;
};

inline RuleVerdict prove_rule(z3::context& context, const rewrite::RuleTable& table,
                              const rewrite::Rule& rule, const Widths& widths, unsigned milliseconds) {
  RuleVerdict out;
  if (rule_of_floats(rule)) {
    FloatTrial small(table, rule, widths.floats_too ? SmallFloats(3, 2) : SmallFloats(2, 1));
    out.refuted = small.run();
    out.proved = small.tried;
    if (widths.floats_too && out.refuted.empty() && small.inputs() <= 2) {
      FloatTrial larger(table, rule, SmallFloats(4, 3));
      out.refuted = larger.run();
      out.proved += larger.tried;
    }
    out.how = " operands tried";
    return out;
  }
  each_typing(table, rule, widths, [&](const std::vector<Type>& types) {
    if (!out.refuted.empty()) return;
    RuleProof proof(context, table, rule, types);
    std::string name;
    for (size_t k = 0; k < types.size(); ++k)
      if (table.types[rule.first_type + k].relation == rewrite::Relation::Free)
        name += (name.empty() ? "" : "/") + types[k].name();
    switch (proof.run(milliseconds, true)) {
      case RuleProof::Verdict::Proved: ++out.proved; break;
      case RuleProof::Verdict::NeverApplies: break;
      case RuleProof::Verdict::TooHard: out.hard.push_back(name); break;
      case RuleProof::Verdict::Refuted: out.refuted = name + "\n" + proof.counterexample; break;
    }
  });
  return out;
}

}  // namespace porphyry::testing
