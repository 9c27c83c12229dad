#pragma once

#include "porphyry/machine/code.h"

namespace porphyry::machine {

// Takes constants and copies that both ways out of a branch begin with in front of the branch's comparison.
// O(instructions).
void share_starts(Code& f, const Target& target);

}  // namespace porphyry::machine
