#include "code_writer.h"

#include "addresses.h"
#include "porphyry/machine/legalize.h"

namespace porphyry::machine {

CodeLine& CodeWriter::put(FormIndex form, std::span<const CodeOperand> operands) {
  CodeLine i{.form = form,
             .operand_count = static_cast<uint8_t>(operands.size()),
             .first_operand = static_cast<uint32_t>(code.operands.size()),
             .origin = origin};
  code.operands.insert(code.operands.end(), operands.begin(), operands.end());
  code.code.push_back(i);
  return code.code.back();
}

void CodeWriter::copy(Register to, Register from) {
  if (to == from) return;
  CodeOperand out = writes(to);
  out.value = is_virtual(to) ? code.shape(to).bits : is_virtual(from) ? code.shape(from).bits : 64;
  put(copy_form, {out, reads(from)}).role = Role::Move;
}

Register CodeWriter::register_of(Value v) {
  Register& r = registers_[v];
  if (r == no_register)
    r = code.new_register(class_of(f.type(v)), static_cast<uint8_t>(carrier(f.type(v)).total_bits()), v);
  return r;
}

Register CodeWriter::use(Value v) {
  if (!f.is_constant(v) || has_register(v)) return register_of(v);
  MadeConstant& made = constants_[v];
  if (made.stretch != stretch_) made = {stretch_, make_constant(v)};
  return made.reg;
}

int64_t CodeWriter::add_address(const CodeAddress& a) {
  code.addresses.push_back(a);
  return static_cast<int64_t>(code.addresses.size() - 1);
}

CodeAddress CodeWriter::address_of(Instruction access) {
  AddressParts p = address_parts(f, access, target.address);
  CodeAddress a{.scale = static_cast<uint8_t>(p.scale),
                .anchor = p.anchor,
                .anchored = p.anchored,
                .displacement = p.offset};
  if (p.reserve.exists()) a.anchored = slot_of(p.reserve);
  if (p.base.exists()) a.base = use(p.base);
  if (p.index.exists()) a.index = use(p.index);
  return a;
}

uint32_t CodeWriter::slot_of(Instruction reserve) {
  if (slots_.empty()) slots_.make(f.instruction_limit(), no_slot);
  uint32_t& slot = slots_[reserve];
  if (slot == no_slot) {
    const ReserveShape& shape = f.reserve_shape(reserve);
    slot = static_cast<uint32_t>(code.slots.size());
    code.slots.push_back({std::max<uint64_t>(shape.bytes, 1), shape.align, reserve});
  }
  return slot;
}

}  // namespace porphyry::machine
