#include "stubs.h"

namespace porphyry::jit {

using namespace machine;

void StubWriter::put(FormIndex form, Operand a, Operand b) {
  PlainInstruction i{form, {a, b}};
  Encoded e = target_.encode(target_, i);
  bytes_.insert(bytes_.end(), e.bytes, e.bytes + e.size);
}

StubWriter::Operand StubWriter::on_stack(int32_t offset) const {
  return {OperandKind::Memory,
          0,
          0,
          {.base = static_cast<int8_t>(target_.convention.stack), .displacement = offset}};
}

void StubWriter::jump_far(uint64_t address) {
  put(target_.upkeep.move_literal, reg(target_.convention.scratch), number(address));
  put(target_.upkeep.jump_through, reg(target_.convention.scratch));
}

void StubWriter::jump_through(int64_t word) {
  // The distance counts from the instruction's end, which does not hang on it.
  Operand place{OperandKind::Memory, 0, 0, {.relative = true}};
  StubWriter probe(target_);
  probe.put(target_.upkeep.reload_general, reg(target_.convention.scratch), place);
  place.address.displacement = static_cast<int32_t>(word - static_cast<int64_t>(size() + probe.size()));
  put(target_.upkeep.reload_general, reg(target_.convention.scratch), place);
  put(target_.upkeep.jump_through, reg(target_.convention.scratch));
}

void StubWriter::jump_with(uint64_t value, int64_t to) {
  put(target_.upkeep.move_literal, reg(target_.convention.scratch), number(value));
  StubWriter probe(target_);
  FormIndex jump = target_.upkeep.jump;
  while (target_.form(jump).next_in_group)
    jump = target_.form(jump).next_in_group;  // the one that reaches furthest
  Operand label{OperandKind::Label, 0, 0, {}};
  probe.put(jump, label);
  label.literal = to - static_cast<int64_t>(size() + probe.size());
  put(jump, label);
}

void StubWriter::ask_and_jump(void* (*host)(void*, uint64_t), void* context) {
  const Convention& c = target_.convention;
  const Upkeep& u = target_.upkeep;
  std::vector<uint8_t> whole(c.whole.begin(), c.whole.end());
  if (c.float_count >= 0) whole.push_back(static_cast<uint8_t>(c.float_count));
  for (uint8_t r : whole) put(u.push, reg(r));
  // Behind the return address, what was pushed and the lanes, the stack is aligned again.
  uint64_t lanes = 16 * c.floats.size(), above = 8 * (whole.size() + 1);
  uint64_t room = (above + lanes + c.stack_align - 1) / c.stack_align * c.stack_align - above;
  put(u.grow, reg(c.stack), number(room));
  for (size_t k = 0; k < c.floats.size(); ++k)
    put(u.spill_wide, on_stack(static_cast<int32_t>(16 * k)), reg(c.floats[k]));
  put(u.move_general_64, reg(c.whole[1]), reg(c.scratch));
  put(u.move_literal, reg(c.whole[0]), number(reinterpret_cast<uint64_t>(context)));
  put(u.move_literal, reg(c.scratch), number(reinterpret_cast<uint64_t>(host)));
  put(u.call_through, reg(c.scratch));
  put(u.move_general_64, reg(c.scratch), reg(c.whole_results[0]));
  for (size_t k = 0; k < c.floats.size(); ++k)
    put(u.reload_wide, reg(c.floats[k]), on_stack(static_cast<int32_t>(16 * k)));
  put(u.shrink, reg(c.stack), number(room));
  for (size_t k = whole.size(); k-- > 0;) put(u.pop, reg(whole[k]));
  put(u.jump_through, reg(c.scratch));
}

}  // namespace porphyry::jit
