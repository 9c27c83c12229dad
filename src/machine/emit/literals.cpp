#include "porphyry/machine/literals.h"

#include "porphyry/ir/compute.h"

namespace porphyry::machine {
namespace {

bool takes(const PatternNode& n, int64_t number) {
  switch (n.fit) {
    case Fit::Any: return n.kind == NodeKind::Constant || static_cast<int64_t>(n.literal) == number;
    case Fit::Signed: return fits_signed(number, static_cast<unsigned>(n.literal));
    case Fit::Unsigned: return static_cast<uint64_t>(number) >> n.literal == 0;
    case Fit::Masked:
    case Fit::Nonzero: return false;
    case Fit::Not: return static_cast<uint64_t>(number) != n.literal;
  }
  return false;
}

PlainOperand operand(const Target& target, const RuleSource& in, const RuleSource& out, unsigned physical,
                     int64_t number) {
  const RuleSource& s = out.kind == SourceKind::None ? in : out;
  if (s.kind == SourceKind::Variable) return PlainOperand::reg(physical);
  uint64_t whole = static_cast<uint64_t>(number) & static_cast<uint64_t>(mask_of(target.word_bits));
  int64_t value = s.kind == SourceKind::Number ? s.number
                  : s.part == Part::Whole      ? number
                                          : static_cast<int64_t>(part_of(whole, s.part, target.lower_bits));
  return PlainOperand::number(value);
}

}  // namespace

std::vector<PlainInstruction> literal_instructions(const Target& target, unsigned physical, int64_t number) {
  const Rule* best = nullptr;
  for (const Rule& rule : target.rules.subspan(target.constant_rules))
    if (rule.needs == 0 && rule.nodes[0].result == Type::integer(target.word_bits) &&
        takes(rule.nodes[0], number) && (!best || rule.cost < best->cost))
      best = &rule;
  std::vector<PlainInstruction> out;
  for (const RuleStep& step : best ? best->steps : std::span<const RuleStep>()) {
    PlainInstruction i{step.form, {}};
    for (size_t k = 0; k < target.form(step.form).operands.size(); ++k)
      i.operands[k] = operand(target, step.in[k], step.out[k], physical, number);
    out.push_back(i);
  }
  return out;
}

}  // namespace porphyry::machine
