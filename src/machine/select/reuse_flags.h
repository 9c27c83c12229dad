// Flags used again: a test of a value is superfluous behind the instruction that made the value when that
// instruction left the same flags, as far as they are read. Which flags those are the book's meanings say
// (Form::flags_as_tested). Where other instructions stand between the two and none of them touches what the
// first one reads and writes, it moves down. A comparison that is made a second time goes as well.
// O(instructions).
#pragma once

#include "porphyry/machine/code.h"

namespace porphyry::machine {

void reuse_flags(Code& code, const Target& target);

}  // namespace porphyry::machine
