#pragma once

#include "porphyry/machine/allocate.h"

namespace porphyry::machine {

// Gives each case of a loop that chooses by a jump table a jump through the table of its own. At most doubles
// the code. O(instructions).
void repeat_choices(Allocation& allocation, const Target& target);

}  // namespace porphyry::machine
