// The order in which blocks are written down.
#pragma once

#include <vector>

#include "porphyry/ir/function.h"

namespace porphyry {

// The blocks in layout order when each value then stands above its uses, as the text form wants it; else in
// reverse postorder from the entry, those that cannot be reached last. O(size).
std::vector<Block> readable_order(const Function& function);

}  // namespace porphyry
