// What passes over loops share: how large one is, the block in front of it, edges that lead elsewhere.
#pragma once

#include "porphyry/analyze/rounds.h"

namespace porphyry {

// What a copy of a loop would take. O(instructions).
struct LoopBody {
  size_t instructions = 0;
  bool reserves = false, calls = false;
};
LoopBody body_of(const Function& f, const LoopShape& loop);

// The block that goes to a loop's head and nowhere else, on all ways into the loop; made where there is none.
// Analyses do not know a new one.
Block block_in_front(Function& f, const Loops& loops, Block head);

// The edge leads elsewhere with the arguments it has. O(arguments).
void lead_to(Function& f, Edge e, Block to);

}  // namespace porphyry
