// Permits for a whole module, as its user gives them: on each instruction that floats are touched by.
#pragma once

#include "porphyry/ir/module.h"
#include "porphyry/optimize/note.h"

namespace porphyry {

// Adds permits of floats (bits of permit::) to every instruction that takes or gives floats, and `ends` to
// the ends of blocks; a note for each function tells how many got one. O(instructions).
void give_permits(Module& module, uint8_t permits, Notes* notes = nullptr);

}  // namespace porphyry
