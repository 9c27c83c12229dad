#pragma once

#include "porphyry/machine/allocate.h"

namespace porphyry::machine {

// Gives each case of a loop that chooses by a jump table a jump through the table of its own, and each block
// that jumps to where a loop's rounds end that end. At most doubles the code. O(instructions).
void repeat_tails(Allocation& allocation, const Target& target);

}  // namespace porphyry::machine
