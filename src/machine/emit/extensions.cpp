// Widening a number is a move of its low part that clears the rest. Where allocation gave both the same
// register, and nothing stands above that part, the move does nothing.
//
// Which registers have nothing above their low half flows forward along the blocks: an instruction whose
// result has no more bits adds its register, one that writes no more and keeps the rest leaves it as it is,
// any other write takes it away. At a block's start those are left that all ways bring; loops begin with all
// of them, and what their ways back do not bring goes until nothing changes. The same again for smaller
// parts.
#include "extensions.h"

#include <algorithm>
#include <array>
#include <bit>

namespace porphyry::machine {
namespace {

class ExtensionRemover {
 public:
  // Of a low part of so many bits.
  ExtensionRemover(Code& f, const Target& target, unsigned bits) : f_(f), target_(target), bits_(bits) {}

  void run() {
    if (!any_extension()) return;
    in_.resize(f_.blocks.size()), effects_.resize(f_.blocks.size());
    for (uint32_t b = 0; b < f_.blocks.size(); ++b) effects_[b] = effect_of(f_.blocks[b]);
    flow();
    for (uint32_t b = 0; b < f_.blocks.size(); ++b) drop(f_.blocks[b], in_[b]);
  }

 private:
  struct Effect {
    RegisterSet zero, lost;  // apart
    void add(unsigned r) { zero.add(r), lost.remove(r); }
    void take(unsigned r) { zero.remove(r), lost.add(r); }
  };

  bool is_extension(const CodeLine& i) const {
    if (i.form < first_real_form || i.operand_count != 2) return false;
    auto operands = f_.of(i);
    if (operands[0].kind != OperandKind::Register || operands[0].reg != operands[1].reg) return false;
    const Form& form = target_.form(i.form);
    const bool moves = i.form == target_.move_form(target_.class_of(operands[0].reg), bits_);
    const bool widens = form.meaning.size() == 1 && form.meaning[0].op == Op::WidenU &&
                        form.meaning[0].kind == MeaningKind::Compute;
    return (moves || widens) && clears_rest(i.form, 0) && form.operands[1].type.total_bits() == bits_;
  }
  bool any_extension() const {
    return std::any_of(f_.code.begin(), f_.code.end(), [&](const CodeLine& i) { return is_extension(i); });
  }

  Rest rest_of(const FormOperand& o) const {
    for (const RegisterView& v : target_.classes[o.register_class].views)
      if (v.bits == o.type.total_bits()) return o.clears ? Rest::Clears : v.rest;
    return Rest::Keeps;
  }
  bool clears_rest(FormIndex form, size_t k) const {
    const FormOperand& o = target_.form(form).operands[k];
    return o.kind == OperandKind::Register && o.type.total_bits() <= target_.word_bits &&
           rest_of(o) == Rest::Clears;
  }
  // Whether a write of the operand leaves zero above the low part.
  bool zeroes(const CodeLine& i, FormIndex form, size_t k) const {
    const FormOperand& o = target_.form(form).operands[k];
    if (o.kind != OperandKind::Register) return false;
    if (o.type.total_bits() < target_.word_bits && rest_of(o) != Rest::Clears) return false;
    return o.type.total_bits() <= bits_ || (i.form == form && result_bits(i, k) <= bits_);
  }
  // Whether one leaves what is above as it was.
  bool keeps(FormIndex form, size_t k) const {
    const FormOperand& o = target_.form(form).operands[k];
    return o.kind == OperandKind::Register && o.type.total_bits() <= bits_ && rest_of(o) == Rest::Keeps;
  }
  // How many low bits of what an operand is given may be set, by the meaning of the form.
  unsigned result_bits(const CodeLine& i, size_t operand) const {
    std::array<unsigned, 16> of_temporary;
    of_temporary.fill(~0u);
    unsigned out = ~0u;
    auto bits_of = [&](const Term& t) -> unsigned {
      const unsigned all = t.type.exists() ? static_cast<unsigned>(t.type.total_bits()) : ~0u;
      if (t.kind == TermKind::Literal) return static_cast<unsigned>(std::bit_width(t.literal));
      if (t.kind == TermKind::Temporary) return t.index < of_temporary.size() ? of_temporary[t.index] : ~0u;
      if (t.kind != TermKind::Operand) return all;
      const CodeOperand& o = f_.of(i)[t.index];
      if (o.kind != OperandKind::Literal) return all;
      return o.part == Part::Whole && o.value >= 0
                 ? static_cast<unsigned>(std::bit_width(static_cast<uint64_t>(o.value)))
                 : ~0u;
    };
    for (const MeaningStep& m : target_.form(i.form).meaning) {
      unsigned bits = ~0u;
      if (m.kind == MeaningKind::Copy || (m.kind == MeaningKind::Compute && m.op == Op::WidenU))
        bits = bits_of(m.arguments[0]);
      else if (m.kind == MeaningKind::Compute && m.op == Op::And)
        bits = std::min(bits_of(m.arguments[0]), bits_of(m.arguments[1]));
      if (m.to.kind == TermKind::Temporary && m.to.index < of_temporary.size())
        of_temporary[m.to.index] = bits;
      if (m.to.kind == TermKind::Operand && m.to.index == operand) out = bits;
    }
    return out;
  }

  // The form of the book that a copy or reload will be.
  FormIndex form_of(const CodeLine& i) const {
    if (i.form >= first_real_form) return i.form;
    const CodeOperand& out = f_.of(i)[0];
    unsigned register_class = target_.class_of(out.reg);
    if (i.form == copy_form) return target_.move_form(register_class, static_cast<unsigned>(out.value));
    return 0;
  }

  void step(const CodeLine& i, Effect& e, const RegisterSet& start) const {
    if (i.form == spill_form) return;
    if (i.form == copy_form && f_.of(i)[0].reg == f_.of(i)[1].reg) return;
    FormIndex form = form_of(i);
    auto operands = f_.of(i);
    bool from_zero = false;
    if (i.form == copy_form && is_physical(operands[1].reg))
      from_zero = e.zero.has(operands[1].reg) || (start.has(operands[1].reg) && !e.lost.has(operands[1].reg));
    for (unsigned r : implicit_writes(target_, f_, i)) e.take(r);
    for (size_t k = 0; k < operands.size(); ++k) {
      const CodeOperand& o = operands[k];
      if (o.kind != OperandKind::Register || !o.written || !is_physical(o.reg)) continue;
      if (form < first_real_form)
        e.take(o.reg);
      else if (zeroes(i, form, k) || from_zero)
        e.add(o.reg);
      else if (!keeps(form, k))
        e.take(o.reg);
    }
  }
  Effect effect_of(const CodeBlock& b) const {
    Effect e;
    for (uint32_t k = b.first; k < b.first + b.count; ++k) step(f_.code[k], e, {});
    return e;
  }

  void flow() {
    RegisterSet all = RegisterSet::run(0, RegisterSet::capacity);
    for (RegisterSet& in : in_) in = all;
    in_[0] = {};
    for (bool changed = true; changed;) {
      changed = false;
      for (uint32_t b = 0; b < f_.blocks.size(); ++b) {
        RegisterSet out = (in_[b] - effects_[b].lost) | effects_[b].zero;
        for (uint32_t to : f_.successors(f_.blocks[b])) {
          RegisterSet met = in_[to] & out;
          if (met == in_[to]) continue;
          in_[to] = met;
          changed |= to <= b;
        }
      }
    }
  }

  void drop(const CodeBlock& b, const RegisterSet& in) {
    Effect now;
    for (uint32_t k = b.first; k < b.first + b.count; ++k) {
      CodeLine& i = f_.code[k];
      if (is_extension(i)) {
        Register r = f_.of(i)[0].reg;
        if (now.zero.has(r) || (in.has(r) && !now.lost.has(r))) {
          i.form = copy_form;  // of a register to itself: nothing
          f_.of(i)[0].value = target_.word_bits;
          continue;
        }
      }
      step(i, now, in);
    }
  }

  Code& f_;
  const Target& target_;
  const unsigned bits_;
  std::vector<RegisterSet> in_;
  std::vector<Effect> effects_;
};

}  // namespace

void drop_superfluous_extensions(Code& f, const Target& target) {
  for (unsigned bits = target.word_bits / 2u; bits >= 8; bits /= 2) ExtensionRemover(f, target, bits).run();
}

}  // namespace porphyry::machine
