// Which values are wanted behind an instruction: whether an operand that is overwritten has to be copied
// first.
#pragma once

#include "porphyry/ir/function.h"

namespace porphyry::machine {

// Whether a way leads from behind the instruction to a use of the value, one by the instruction itself when a
// loop comes back to it. Said of constants too, of what the instruction reads twice, and where it would take
// long to find out. O(1): a bounded part of the block, of the uses and of the blocks behind.
bool wanted_behind(const Function& f, Value v, Instruction i);

// What comes of overwriting an operand: nothing, as the result is the operand's next value; nothing but a
// register in passing; a copy behind, which takes the next value of a block parameter to its register; or a
// copy in front, of what is wanted behind.
enum class Loss : uint8_t { None, Passing, CopyBehind, CopyInFront };
Loss loss_of(const Function& f, Value overwritten, Instruction by);

}  // namespace porphyry::machine
