// Results used again: some instructions leave two results at once, in registers of their own, and code that
// wants both was selected for each of them: a division for the quotient, and the same one once more for what
// remains. The second one goes, and its result is taken behind the first. O(instructions).
#pragma once

#include "porphyry/machine/code.h"

namespace porphyry::machine {

void reuse_results(Code& code, const Target& target);

}  // namespace porphyry::machine
