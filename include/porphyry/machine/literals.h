// Numbers in registers outside of what is selected: by the book's own rules for constants.
//
//   for (const PlainInstruction& i : literal_instructions(target, target.convention.far, frame_bytes)) …
#pragma once

#include <vector>

#include "porphyry/machine/target.h"

namespace porphyry::machine {

// The instructions of the cheapest rule that makes the number, of a word, in a register of class 0. What the
// rule needs on the way is made in the same register. O(rules for constants).
std::vector<PlainInstruction> literal_instructions(const Target& target, unsigned physical, int64_t number);

}  // namespace porphyry::machine
