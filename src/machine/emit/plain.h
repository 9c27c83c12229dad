// From lines of code to instructions as the encoder takes them.
#pragma once

#include "porphyry/machine/emit.h"

namespace porphyry::machine {

// Where an instruction's address, label or callee lies, if not in a register.
struct Reference {
  EmittedLine::To to = EmittedLine::To::Nothing;
  uint32_t index = 0;
  int64_t addend = 0;
};

// With what stands for labels, symbols and constants left out; where those lie is `reference`.
PlainInstruction plain_instruction(const Code& f, const CodeLine& i, Reference& reference);

}  // namespace porphyry::machine
