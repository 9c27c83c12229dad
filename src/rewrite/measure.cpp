// That rewriting ends: every rule lowers a measure. A term's measure is a polynomial over its values, linear
// with coefficients of at least one, so lowering it in a part lowers it in the whole; a rule lowers it when
// no coefficient grows and the weight falls. As constants weigh nothing, it is asked for each choice of
// values that may be constants.
#include <fmt/format.h>

#include "porphyry/rewrite/read.h"

namespace porphyry::rewrite {
namespace {

struct Polynomial {
  std::vector<uint64_t> factors;  // by binding
  uint64_t weight = 0;
  bool varies = false;
};

class Measure {
 public:
  Measure(const RuleBook& book, size_t bindings, uint64_t constants)
      : book_(book), bindings_(bindings), constants_(constants) {}

  Polynomial of(uint16_t term) const {
    const Term& t = book_.terms[term];
    Polynomial out{std::vector<uint64_t>(bindings_)};
    if (t.kind == TermKind::Value && !(constants_ >> t.binding & 1))
      out.factors[t.binding] = 1, out.varies = true;
    if (t.kind != TermKind::Operation || t.computed) return out;
    unsigned varying = 0;
    for (unsigned k = 0; k < t.operand_count; ++k) {
      Polynomial one = of(t.operands[k]);
      if (!one.varies) continue;
      ++varying;
      out.varies = true;
      for (size_t b = 0; b < bindings_; ++b) out.factors[b] += one.factors[b];
      out.weight += one.weight;
    }
    auto row = static_cast<size_t>(t.op);
    uint64_t factor = book_.factors[row] * (varying > 1 ? 2u : 1u);
    for (uint64_t& f : out.factors) f *= factor;
    out.weight = out.weight * factor + (out.varies ? book_.weights[row] : 0);
    return out;
  }

 private:
  const RuleBook& book_;
  size_t bindings_;
  uint64_t constants_;
};

// Names of values by binding, as far as they may be constants.
uint64_t values_of(const RuleBook& book, uint16_t term) {
  const Term& t = book.terms[term];
  if (t.kind == TermKind::Value) return uint64_t(1) << t.binding;
  uint64_t out = 0;
  for (unsigned k = 0; k < t.operand_count; ++k) out |= values_of(book, t.operands[k]);
  return out;
}
// What operations with a name stand for is written out.
uint16_t named(const RuleBook& book, uint16_t term, uint8_t binding) {
  const Term& t = book.terms[term];
  if (t.kind != TermKind::Operation) return no_term;
  if (t.binding == binding) return term;
  for (unsigned k = 0; k < t.operand_count; ++k)
    if (uint16_t found = named(book, t.operands[k], binding); found != no_term) return found;
  return no_term;
}

// Whether an operation of the pattern has only constants there: that is computed, and no rule sees it.
bool has_constant_operation(const RuleBook& book, uint16_t term, uint64_t constants) {
  const Term& t = book.terms[term];
  if (t.kind != TermKind::Operation) return false;
  bool all = true;
  for (unsigned k = 0; k < t.operand_count; ++k) {
    const Term& o = book.terms[t.operands[k]];
    all &= o.kind == TermKind::Value ? bool(constants >> o.binding & 1) : o.kind != TermKind::Operation;
    if (has_constant_operation(book, t.operands[k], constants)) return true;
  }
  return all;
}

bool lowers(const RuleBook& book, const Rule& r, uint64_t constants) {
  Measure m(book, r.binding_count, constants);
  Polynomial before = m.of(r.pattern);
  if (has_constant_operation(book, r.pattern, constants)) return true;
  // An operation with a name is a value of its own in the replacement, worth what it is made of.
  std::vector<Polynomial> worth(r.binding_count);
  for (uint8_t b = 0; b < r.binding_count; ++b)
    if (uint16_t t = named(book, r.pattern, b); t != no_term) worth[b] = m.of(t);
  for (uint16_t term : r.becomes) {
    if (term == no_term) continue;
    Polynomial after = m.of(term);
    for (uint8_t b = 0; b < r.binding_count; ++b) {
      if (worth[b].factors.empty()) continue;
      uint64_t times = std::exchange(after.factors[b], 0);
      after.weight += times * worth[b].weight;
      for (size_t k = 0; k < worth[b].factors.size(); ++k) after.factors[k] += times * worth[b].factors[k];
    }
    // No value but a constant weighs less than this.
    constexpr uint64_t least = 8;
    uint64_t heavier = before.weight, lighter = after.weight;
    for (size_t b = 0; b < after.factors.size(); ++b) {
      if (after.factors[b] > before.factors[b]) return false;
      heavier += before.factors[b] * least, lighter += after.factors[b] * least;
    }
    if (lighter >= heavier) return false;
  }
  return true;
}

}  // namespace

Diagnostics rules_that_do_not_end(const RuleBook& book) {
  Diagnostics out;
  for (const Rule& r : book.rules) {
    uint64_t values = values_of(book, r.pattern);
    for (size_t k = 0; k < r.condition_count; ++k) {
      const Condition& c = book.conditions[r.first_condition + k];
      if (c.kind == ConditionKind::Varies) values &= ~(uint64_t(1) << c.a);
    }
    for (uint64_t constants = values;; constants = (constants - 1) & values) {
      if (!lowers(book, r, constants)) {
        Diagnostic d =
            complaint(constants ? "the rule does not lower the measure where some of its values are constants"
                                : "the rule does not lower the measure",
                      "less weight, or a value that 'varies'");
        d.file = book.files[r.file];
        d.line = r.line;
        d.excerpt = r.text;
        out.push_back(std::move(d));
        break;
      }
      if (!constants) break;
    }
  }
  return out;
}

}  // namespace porphyry::rewrite
