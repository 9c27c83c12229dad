// A pick in front of a branch, one side of which decides the branch whatever else is compared.
#pragma once

#include "porphyry/optimize/pass.h"

namespace porphyry {

// The pick's condition is asked first, and all that only the comparison wanted is spared on one way: where
// that is enough for one more branch, and the function is not kept small. O(blocks), and what is computed for
// comparisons.
void ask_deciding_picks_first(FunctionContext& c);

}  // namespace porphyry
