// Memory of the frame that is written and never read.
#pragma once

#include <optional>
#include <vector>

#include "porphyry/ir/function.h"

namespace porphyry {

// The stores into the object of a `reserve` that nothing reads and nobody else sees: its address is only
// stored through, moved along, and ended. Nothing where something else is done with it, or a store is
// volatile. O(uses of its addresses).
std::optional<std::vector<Instruction>> stores_never_read(const Function& f, Instruction reserve);

}  // namespace porphyry
