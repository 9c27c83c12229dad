// Machine code without bytes as text, for traces: registers that are still virtual carry the names of their
// values.
#pragma once

#include <string>

#include "porphyry/machine/code.h"

namespace porphyry::machine {

// "add sum, gap", "reload total from slot 2". Virtual registers without a value are called r1, r2, …
std::string code_text(const Target& target, const Module& module, const Function& function, const Code& code,
                      const CodeLine& line);

// How a register is called there.
std::string register_text(const Target& target, const Module& module, const Function& function,
                          const Code& code, Register r, unsigned bits);

}  // namespace porphyry::machine
