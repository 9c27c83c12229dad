// Which values are wanted behind an instruction: whether an operand that is overwritten has to be copied
// first.
#pragma once

#include "porphyry/ir/function.h"

namespace porphyry::machine {

// Whether a way leads from behind the instruction to a use of the value. Said of constants too, and where it
// would take long to find out. O(1): a bounded part of the block, of the uses and of the blocks behind.
bool wanted_behind(const Function& f, Value v, Instruction i);

// Whether a result goes back into the block parameter: they best share a register.
bool comes_back(const Function& f, Value result, Value parameter);

}  // namespace porphyry::machine
