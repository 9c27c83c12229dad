// What follows from a rule's pattern and from the forms on its right side: where the index looks for it, and
// what the selector has to know of it before it writes anything.
#include "book.h"
#include "porphyry/machine/code.h"
#include "porphyry/machine/rule_keys.h"

namespace porphyry::bind {
namespace {

using namespace machine;

Type typed(const PatternNode& n) { return is_keyed_by_result(n.op) ? n.result : n.operand; }

// Operands of the root that only constants fit. Memory comes before the operands it is made of.
void note_constants(RuleFacts& out, const BoundRule& rule) {
  for (size_t k = 0; k < std::size(rule.nodes[0].children); ++k) {
    int8_t child = rule.nodes[0].children[k];
    if (child < 0) break;
    const PatternNode& n = rule.nodes[static_cast<size_t>(child)];
    if (n.kind == NodeKind::Memory) break;
    if (n.kind != NodeKind::Constant && n.kind != NodeKind::Literal) continue;
    out.constants |= static_cast<uint8_t>(1u << k);
    if (n.kind == NodeKind::Constant || out.constants & RuleFacts::whole_literal) continue;
    out.constants |= RuleFacts::whole_literal;
    out.literal = static_cast<uint8_t>(n.literal);
  }
}

// Of the first inner operation below the root.
uint16_t inner_key(const BoundRule& rule) {
  for (int8_t child : rule.nodes[0].children) {
    if (child < 0) continue;
    const PatternNode& n = rule.nodes[static_cast<size_t>(child)];
    if (n.kind == NodeKind::Operation) return node_key(n.op, typed(n));
  }
  return no_node_key;
}

bool out_is_read(const RuleStep& step, size_t operands) {
  for (size_t k = 0; k < operands; ++k)
    if (step.out[k].kind != SourceKind::None && step.in[k].kind != SourceKind::None) return true;
  return false;
}

void note_step(RuleFacts& out, const RuleStep& step, const std::vector<FormOperand>& operands) {
  const bool copies = step.form == copy_form;
  auto bit = [](int8_t variable) {
    bool is_one = variable >= 0 && variable < int(most_pattern_variables);
    return static_cast<uint16_t>(is_one ? 1u << variable : 0);
  };
  const size_t count = copies ? 2 : operands.size();
  const bool ties = !copies && out_is_read(step, count);
  out.lines = static_cast<uint8_t>(out.lines + (ties ? 2 : 1));
  out.operands = static_cast<uint8_t>(out.operands + count + (ties ? 2 : 0));
  out.temporaries = static_cast<uint8_t>(out.temporaries + 1);
  for (size_t k = 0; k < std::size(step.in); ++k) {
    const RuleSource& s = step.in[k];
    if (s.kind == SourceKind::Variable || s.kind == SourceKind::Built) out.in_register |= bit(s.variable);
    if (s.kind == SourceKind::Built) out.in_register |= bit(s.index);
    if (copies || k >= count) continue;
    if (s.kind == SourceKind::Variable && step.out[k].kind != SourceKind::None)
      out.overwritten |= bit(s.variable);
    if (s.kind == SourceKind::Memory) out.aligned |= operands[k].aligned;
  }
}

}  // namespace

RuleFacts facts_of(const BoundRule& rule, const std::vector<BoundForm>& forms) {
  RuleFacts out = rule;  // with what its reader has found: what it needs and costs
  out.root = node_key(rule.nodes[0].op, typed(rule.nodes[0]));
  out.inner = inner_key(rule);
  note_constants(out, rule);
  out.covered = covered_by(rule);
  for (const RuleStep& step : rule.steps) note_step(out, step, forms[step.form].operands);
  return out;
}

}  // namespace porphyry::bind
