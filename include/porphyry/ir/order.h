// Orders of blocks.
#pragma once

#include <vector>

#include "porphyry/ir/function.h"

namespace porphyry {

// The blocks that the entry leads to, each before those that only it leads to; loops are entered at their
// heads. O(blocks + edges).
std::vector<Block> reverse_postorder(const Function& function);

// The order to write blocks down in: layout order when each value then stands above its uses, as the text form wants it; else in
// reverse postorder, those that cannot be reached last. O(size).
std::vector<Block> readable_order(const Function& function);

}  // namespace porphyry
