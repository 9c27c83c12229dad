// Idea: where an offset from the stack pointer does not fit an access, the reserved register becomes the sum
// of both, and the access takes it without an offset; spills and reloads become plain accesses for it.
// Invariant: lines that need nothing stay as they are, in the same order, and blocks begin at the same lines.
// Cost: O(lines).
#include "far_addresses.h"

#include "porphyry/machine/literals.h"

namespace porphyry::machine {
namespace {

class Reacher {
 public:
  Reacher(Code& f, const Target& target)
      : f_(f), target_(target), far_(static_cast<Register>(target.convention.far)), out_(f.memory()) {}

  void run() {
    out_.reserve(f_.code.size());
    for (CodeBlock& b : f_.blocks) {
      auto first = static_cast<uint32_t>(out_.size());
      for (uint32_t k = b.first; k < b.first + b.count; ++k) line(f_.code[k]);
      b.first = first, b.count = static_cast<uint32_t>(out_.size()) - first;
    }
    f_.code = std::move(out_);
  }

 private:
  void line(CodeLine i) {
    if (i.form == spill_form || i.form == reload_form) return access_of_slot(i);
    for (size_t k = 0; k < i.operand_count; ++k) {  // by number: operands are added meanwhile
      const CodeOperand o = f_.of(i)[k];
      if (o.kind != OperandKind::Memory && o.kind != OperandKind::Address) continue;
      const CodeAddress a = f_.addresses[static_cast<size_t>(o.value)];
      if (a.base != target_.convention.stack || target_.address.offset_fits(a.displacement)) continue;
      reach(a.displacement, i);
      f_.of(i)[k].value = far_address();
    }
    out_.push_back(i);
  }

  void access_of_slot(CodeLine i) {
    const FrameSlot& slot = f_.slots[static_cast<size_t>(f_.of(i)[1].value)];
    if (target_.address.offset_fits(slot.offset)) return out_.push_back(i);
    CodeOperand reg = f_.of(i)[0];
    const SpillForm& forms =
        target_.spill_form(target_.class_of(reg.reg), static_cast<unsigned>(8 * slot.bytes));
    reach(slot.offset, i);
    bool spills = i.form == spill_form;
    i.form = spills ? forms.spill : forms.reload;
    i.first_operand = static_cast<uint32_t>(f_.operands.size());
    CodeOperand memory{OperandKind::Memory, !spills, spills, Part::Whole, no_register, far_address()};
    f_.operands.push_back(spills ? memory : reg);
    f_.operands.push_back(spills ? reg : memory);
    out_.push_back(i);
  }

  // The stack pointer plus an offset into the reserved register.
  void reach(int64_t offset, const CodeLine& before) {
    auto put = [&](const PlainInstruction& i, bool adds) {
      const Form& form = target_.form(i.form);
      out_.push_back({.form = i.form,
                      .operand_count = static_cast<uint8_t>(form.operands.size()),
                      .role = before.role,
                      .first_operand = static_cast<uint32_t>(f_.operands.size()),
                      .origin = before.origin});
      for (size_t k = 0; k < form.operands.size(); ++k) {
        const FormOperand& shape = form.operands[k];
        bool is_register = shape.kind == OperandKind::Register;
        Register r = !is_register ? no_register : adds && k == 2 ? target_.convention.stack : far_;
        f_.operands.push_back({shape.kind, shape.read, shape.written, Part::Whole, r, i.operands[k].literal});
      }
    };
    for (const PlainInstruction& i : literal_instructions(target_, far_, offset)) put(i, false);
    put({target_.upkeep.add, {}}, true);
  }

  int64_t far_address() {
    f_.addresses.push_back({.base = far_});
    return static_cast<int64_t>(f_.addresses.size() - 1);
  }

  Code& f_;
  const Target& target_;
  Register far_;
  CodeRows<CodeLine> out_;
};

}  // namespace

void reach_far_addresses(Code& f, const Target& target) { Reacher(f, target).run(); }

}  // namespace porphyry::machine
