// Widening a number to a whole word is a move of its half that clears the rest. Where allocation gave both
// the same register, and what wrote it cleared the rest too, the move does nothing.
//
// Which registers have a zero upper half flows forward along the blocks: an instruction that writes a half
// and clears the rest adds its register, any other write takes it away. At a block's start those are left
// that all ways bring; loops begin with all of them, and what their ways back do not bring goes until nothing
// changes.
#include "extensions.h"

#include <algorithm>

namespace porphyry::machine {
namespace {

class ExtensionRemover {
 public:
  ExtensionRemover(Code& f, const Target& target)
      : f_(f),
        target_(target),
        half_(target.word_bits / 2u),
        in_(f.blocks.size()),
        effects_(f.blocks.size()) {}

  void run() {
    if (!any_extension()) return;
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
    return i.form == target_.move_form(target_.class_of(operands[0].reg), half_) && zeroes(i.form, 0);
  }
  bool any_extension() const {
    return std::any_of(f_.code.begin(), f_.code.end(), [&](const CodeLine& i) { return is_extension(i); });
  }

  Rest rest_of(const FormOperand& o) const {
    for (const RegisterView& v : target_.classes[o.register_class].views)
      if (v.bits == o.type.total_bits()) return o.clears ? Rest::Clears : v.rest;
    return Rest::Keeps;
  }
  // Whether a write of the operand leaves the upper half zero.
  bool zeroes(FormIndex form, size_t k) const {
    const FormOperand& o = target_.form(form).operands[k];
    return o.kind == OperandKind::Register && o.type.total_bits() <= half_ && rest_of(o) == Rest::Clears;
  }
  // Whether one leaves it as it was.
  bool keeps(FormIndex form, size_t k) const {
    const FormOperand& o = target_.form(form).operands[k];
    return o.kind == OperandKind::Register && o.type.total_bits() < half_ && rest_of(o) == Rest::Keeps;
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
      else if (zeroes(form, k) || from_zero)
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
  const unsigned half_;
  std::vector<RegisterSet> in_;
  std::vector<Effect> effects_;
};

}  // namespace

void drop_superfluous_extensions(Code& f, const Target& target) { ExtensionRemover(f, target).run(); }

}  // namespace porphyry::machine
