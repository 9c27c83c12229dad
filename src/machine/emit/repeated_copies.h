#pragma once

#include "porphyry/machine/code.h"

namespace porphyry::machine {

// Takes copies out of allocated code into registers that hold the value already. O(n + blocks * registers).
void drop_repeated_copies(Code& f, const Target& target);

}  // namespace porphyry::machine
