// Instructions of a book with chosen operands, for tests that go over all of them.
#pragma once

#include <random>

#include "porphyry/machine/target.h"

namespace porphyry::testing {

// Random operands that the form can encode. Registers never name the stack pointer unless the form says so.
inline machine::PlainInstruction random_operands(const machine::Target& target, machine::FormIndex f,
                                                 std::mt19937_64& random) {
  using namespace machine;
  PlainInstruction i;
  i.form = f;
  const Form& form = target.form(f);
  auto pick = [&](const RegisterClass& c) {
    unsigned r;
    do r = c.first + random() % c.count;
    while (target.convention.reserved.has(r));
    return static_cast<uint8_t>(r);
  };
  for (size_t k = 0; k < form.operands.size(); ++k) {
    const FormOperand& shape = form.operands[k];
    PlainOperand& o = i.operands[k];
    o.kind = shape.kind;
    switch (shape.kind) {
      case OperandKind::Register:
        o.physical =
            shape.only >= 0 ? static_cast<uint8_t>(shape.only) : pick(target.classes[shape.register_class]);
        break;
      case OperandKind::Literal: {
        uint64_t bits = random() >> (random() % 64);
        if (shape.only >= 0)
          o.literal = shape.only;
        else if (shape.literal_unsigned)
          o.literal = static_cast<int64_t>(bits & ((uint64_t(1) << shape.literal_bits) - 1));
        else
          o.literal = shape.literal_bits >= 64 ? static_cast<int64_t>(bits)
                                               : static_cast<int64_t>(bits << (64 - shape.literal_bits)) >>
                                                     (64 - shape.literal_bits);
        break;
      }
      case OperandKind::Memory:
      case OperandKind::Address: {
        unsigned form_of_address = target.address.scales.empty() ? 1 : random() % 4;
        if (form_of_address != 0) o.address.base = static_cast<int8_t>(pick(target.classes[0]));
        if (form_of_address == 0 || form_of_address == 3)
          o.address.index = static_cast<int8_t>(pick(target.classes[0])),
          o.address.scale = static_cast<uint8_t>(1 << random() % 4);
        if (form_of_address == 0 && o.address.scale == 1) o.address.scale = 2;
        int64_t d = static_cast<int32_t>(random()) >> (random() % 32);
        o.address.displacement = static_cast<int32_t>(d) >> (32 - target.address.offset_bits);
        break;
      }
      case OperandKind::Label:
      case OperandKind::Symbol: o.literal = shape.unit == 1 ? 16 : 16 * shape.unit; break;
    }
  }
  return i;
}

}  // namespace porphyry::testing
