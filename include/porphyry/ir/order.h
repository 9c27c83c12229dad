// Orders of blocks.
#pragma once

#include <memory_resource>
#include <vector>

#include "porphyry/ir/function.h"

namespace porphyry {

// The blocks that the entry leads to, each before those that only it leads to; loops are entered at their
// heads. O(blocks + edges).
using Blocks = std::pmr::vector<Block>;
Blocks reverse_postorder(const Function& function,
                         std::pmr::memory_resource* memory = std::pmr::get_default_resource());

// The order to write blocks down in: layout order when each value then stands above its uses, as the text
// form wants it; else in reverse postorder, those that cannot be reached last. O(size).
Blocks readable_order(const Function& function);

// Removes the blocks that no path from the entry reaches; what only they used is used less. `memory` holds
// what is wanted on the way. O(instructions + edges).
void remove_unreachable_blocks(Function& f,
                               std::pmr::memory_resource* memory = std::pmr::get_default_resource());

}  // namespace porphyry
