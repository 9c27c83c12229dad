// What passes over loops share: the block in front of a loop, and edges that lead elsewhere.
#pragma once

#include "porphyry/analyze/loops.h"

namespace porphyry {

// The block that goes to a loop's head and nowhere else, on all ways into the loop; made where there is none.
// Analyses do not know a new one.
Block block_in_front(Function& f, const Loops& loops, Block head);

// The edge leads elsewhere with the arguments it has. O(arguments).
void lead_to(Function& f, Edge e, Block to);

}  // namespace porphyry
