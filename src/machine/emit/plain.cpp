#include "plain.h"

namespace porphyry::machine {
namespace {

bool literal_fits(const FormOperand& o, int64_t v) {
  if (o.literal_bits >= 64) return true;
  int64_t half = int64_t(1) << (o.literal_bits - 1);
  if (o.literal_unsigned) return v >= 0 && v < 2 * half;
  return v >= -half && v < (o.type.bits() == o.literal_bits ? 2 * half : half);
}

// Jump tables are numbered behind the pool's entries.
Reference reference_of(const Code& f, const CodeAddress& a) {
  if (a.anchor == Anchor::Pool) return {EmittedLine::To::Pool, a.anchored, 0};
  if (a.anchor == Anchor::Table)
    return {EmittedLine::To::Pool, static_cast<uint32_t>(f.pool.size()) + a.anchored, 0};
  return {EmittedLine::To::Symbol, a.anchored, a.displacement};
}
PlainAddress plain_address(const Code& f, const CodeAddress& a, Reference& r) {
  PlainAddress p;
  if (a.base != no_register) p.base = static_cast<int8_t>(a.base);
  if (a.index != no_register) p.index = static_cast<int8_t>(a.index);
  p.scale = a.scale;
  p.relative = a.anchor == Anchor::Symbol || a.anchor == Anchor::Pool || a.anchor == Anchor::Table;
  if (p.relative)
    r = reference_of(f, a);
  else
    p.displacement = static_cast<int32_t>(a.displacement);
  return p;
}

}  // namespace

PlainInstruction plain_instruction(const Code& f, const CodeLine& i, Reference& reference) {
  PlainInstruction plain{i.form, {}};
  auto operands = f.of(i);
  for (size_t k = 0; k < operands.size(); ++k) {
    const CodeOperand& o = operands[k];
    PlainOperand& p = plain.operands[k];
    p.kind = o.kind;
    switch (o.kind) {
      case OperandKind::Register: p.physical = static_cast<uint8_t>(o.reg); break;
      case OperandKind::Literal:
        if (o.part == Part::Whole)
          p.literal = o.value;
        else
          reference = reference_of(f, f.addresses[static_cast<size_t>(o.value)]);
        break;
      case OperandKind::Label: break;
      case OperandKind::Symbol:
        reference = {EmittedLine::To::Symbol, static_cast<uint32_t>(o.value), 0};
        break;
      case OperandKind::Memory:
      case OperandKind::Address:
        p.address = plain_address(f, f.addresses[static_cast<size_t>(o.value)], reference);
        break;
    }
  }
  return plain;
}

FormIndex fitting_form(const Target& target, const PlainInstruction& plain) {
  FormIndex f = target.form(plain.form).first_in_group;
  for (; target.form(f).next_in_group; f = target.form(f).next_in_group) {
    const Form& form = target.form(f);
    bool fits = true;
    for (size_t k = 0; k < form.operands.size(); ++k) {
      const FormOperand& o = form.operands[k];
      const PlainOperand& p = plain.operands[k];
      if (o.kind == OperandKind::Literal) fits &= literal_fits(o, p.literal);
      if (o.only >= 0) fits &= o.only == (o.kind == OperandKind::Literal ? p.literal : int64_t(p.physical));
    }
    if (fits) break;
  }
  return f;
}

std::optional<size_t> label_operand(const Form& form) {
  for (size_t k = 0; k < form.operands.size(); ++k)
    if (form.operands[k].kind == OperandKind::Label) return k;
  return std::nullopt;
}

}  // namespace porphyry::machine
