#include "porphyry/machine/rule_index.h"

#include <numeric>

#include "match.h"

namespace porphyry::machine {

RuleIndex::RuleIndex(const Target& target, Features features)
    : target_(&target), features_(features), first_(node_keys + 1) {
  std::span<const Rule> rules = target.rules.first(target.constant_rules);
  entries_.resize(rules.size());
  size_t count = 0;
  for (size_t r = 0; r < rules.size(); ++r) {
    const Rule& rule = rules[r];
    if (rule.needs & ~features) continue;
    entries_[count++] = {rule.inner, static_cast<uint16_t>(r), rule.constants, rule.literal};
    ++first_[rule.root + 1u];
  }
  entries_.resize(count);
  std::partial_sum(first_.begin(), first_.end(), first_.begin());
}

uint16_t RuleIndex::root_key(const Function& f, Instruction i) const {
  Op op = f.op(i);
  // Addresses, too, but those of symbols that no access takes: they have rules of their own.
  if (op == Op::Reserve || (op == Op::AddressOf && target_->address.symbols)) op = Op::At;
  if (is_keyed_by_nothing(op)) return node_key(op, Type());
  size_t count = f.operand_count(i);
  Type t = is_keyed_by_result(op) ? f.type(f.result(i))
           : count                ? f.type(f.operand(i, typed_operand(op, count)))
                                  : Type();
  return node_key(op, t);
}

uint16_t RuleIndex::inner_key(const Function& f, Value v) {
  if (f.is_constant(v))  // one of floats may be read from the pool
    return f.type(v).is_float() || f.type(v).has_lanes() ? node_key(Op::Load, f.type(v)) : no_node_key;
  Instruction d = f.definition(v);
  if (!d.exists()) return no_node_key;
  Op op = f.op(d);
  size_t count = f.operand_count(d);
  if (is_keyed_by_nothing(op) || count == 0) return node_key(op, Type());
  return node_key(op, is_keyed_by_result(op) ? f.type(v) : f.type(f.operand(d, typed_operand(op, count))));
}

}  // namespace porphyry::machine
