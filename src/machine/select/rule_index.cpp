#include "porphyry/machine/rule_index.h"

#include <algorithm>
#include <numeric>
#include <tuple>

#include "match.h"
#include "porphyry/machine/code.h"
#include "porphyry/machine/legalize.h"

namespace porphyry::machine {
namespace {

// Types as rules tell them apart.
uint32_t type_code(Type t) {
  if (!t.exists()) return 0;
  t = t.is_bool() ? Type::integer(8).with_lanes(t.lanes()) : carrier(t);
  if (t.has_lanes()) return 7 + type_code(t.element());
  if (t.is_float()) return t.bits() == 32 ? 5 : 6;
  return t.bits() == 8 ? 1 : t.bits() == 16 ? 2 : t.bits() == 32 ? 3 : 4;
}

constexpr uint32_t type_codes = 14;
uint32_t half_key(Op op, Type t) { return static_cast<uint32_t>(op) * type_codes + type_code(t); }

// Which type tells rules of this operation apart; no_inner for those that take an address or a bool.
bool by_result(Op op) { return op == Op::Load; }
bool by_nothing(Op op) { return op == Op::At || op == Op::AddressOf || op == Op::When || op == Op::Trap; }

Type typed(const PatternNode& n) {
  return by_nothing(n.op) ? Type() : by_result(n.op) ? n.result : n.operand;
}

bool out_is_read(const Target& target, const RuleStep& step) {
  if (step.form == copy_form) return false;
  for (size_t k = 0; k < target.form(step.form).operands.size(); ++k)
    if (step.out[k].kind != SourceKind::None && step.in[k].kind != SourceKind::None) return true;
  return false;
}

RuleIndex::Facts facts_of(const Target& target, const Rule& rule) {
  RuleIndex::Facts out;
  auto bit = [](int8_t variable) {
    return static_cast<uint16_t>(variable < 0 || variable >= int(most_pattern_variables) ? 0
                                                                                         : 1u << variable);
  };
  for (const RuleStep& step : rule.steps) {
    size_t count = step.form == copy_form ? 2 : target.form(step.form).operands.size();
    bool ties = out_is_read(target, step);
    out.lines = static_cast<uint8_t>(out.lines + (ties ? 2 : 1));
    out.operands = static_cast<uint8_t>(out.operands + count + (ties ? 2 : 0));
    out.temporaries = static_cast<uint8_t>(out.temporaries + 1);
    for (size_t k = 0; k < std::size(step.in); ++k) {
      const RuleSource& s = step.in[k];
      if (s.kind == SourceKind::Variable || s.kind == SourceKind::Built) out.in_register |= bit(s.variable);
      if (s.kind == SourceKind::Built) out.in_register |= bit(s.index);
      bool operand = step.form != copy_form && k < target.form(step.form).operands.size();
      if (operand && s.kind == SourceKind::Variable && step.out[k].kind != SourceKind::None)
        out.overwritten |= bit(s.variable);
      if (operand && s.kind == SourceKind::Memory) out.aligned |= target.form(step.form).operands[k].aligned;
    }
  }
  return out;
}

// Operands of the root that only constants fit. Memory comes before the operands it is made of.
uint8_t wanted_constants(const Rule& rule) {
  uint8_t out = 0;
  for (size_t k = 0; k < std::size(rule.nodes[0].children); ++k) {
    int8_t child = rule.nodes[0].children[k];
    if (child < 0) break;
    NodeKind kind = rule.nodes[static_cast<size_t>(child)].kind;
    if (kind == NodeKind::Memory) break;
    if (kind == NodeKind::Constant || kind == NodeKind::Literal) out |= static_cast<uint8_t>(1u << k);
  }
  return out;
}

}  // namespace

RuleIndex::RuleIndex(const Target& target, Features features) : target_(&target), features_(features) {
  for (const Rule& rule : target.rules) facts_.push_back(facts_of(target, rule));
  for (uint16_t r = 0; r < target.constant_rules; ++r) {
    const Rule& rule = target.rules[r];
    if (rule.needs & ~features) continue;
    const PatternNode& root = rule.nodes[0];
    uint32_t inner = no_inner;
    for (int8_t child : root.children)
      if (child >= 0 && rule.nodes[static_cast<size_t>(child)].kind == NodeKind::Operation &&
          inner == no_inner) {
        const PatternNode& n = rule.nodes[static_cast<size_t>(child)];
        inner = half_key(n.op, typed(n));
      }
    entries_.push_back({static_cast<uint16_t>(half_key(root.op, typed(root))), static_cast<uint16_t>(inner),
                        r, wanted_constants(rule)});
  }
  auto key = [&](const Entry& e) { return std::tuple(e.root, e.inner, target.rules[e.rule].cost, e.rule); };
  std::sort(entries_.begin(), entries_.end(),
            [&](const Entry& a, const Entry& b) { return key(a) < key(b); });
  first_.resize(operation_count * type_codes + 1);
  for (const Entry& e : entries_) ++first_[e.root + 1u];
  std::partial_sum(first_.begin(), first_.end(), first_.begin());
}

uint32_t RuleIndex::root_key(const Function& f, Instruction i) const {
  Op op = f.op(i);
  // Addresses, too, but those of symbols that no access takes: they have rules of their own.
  if (op == Op::Reserve || (op == Op::AddressOf && target_->address.symbols)) op = Op::At;
  if (by_nothing(op)) return half_key(op, Type());
  size_t count = f.operand_count(i);
  Type t = by_result(op) ? f.type(f.result(i))
           : count       ? f.type(f.operand(i, typed_operand(op, count)))
                         : Type();
  return half_key(op, t);
}

uint32_t RuleIndex::inner_key(const Function& f, Value v) {
  if (f.is_constant(v))  // one of floats may be read from the pool
    return f.type(v).is_float() || f.type(v).has_lanes() ? half_key(Op::Load, f.type(v)) : no_inner;
  Instruction d = f.definition(v);
  if (!d.exists()) return no_inner;
  Op op = f.op(d);
  size_t count = f.operand_count(d);
  if (by_nothing(op) || count == 0) return half_key(op, Type());
  return half_key(op, by_result(op) ? f.type(v) : f.type(f.operand(d, typed_operand(op, count))));
}

}  // namespace porphyry::machine
