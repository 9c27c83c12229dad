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

// Each innermost loop in turn; `see` may copy blocks and make new ones, so that ways in are found anew for
// each.
template <class See>
void each_inner_loop(const Function& f, const Dominators& dominators, const Loops& loops, See see) {
  for (LoopShape& loop : loop_shapes(f, dominators, loops)) {
    if (!loop.innermost) continue;
    find_ways_in(f, loops, loop);
    see(loop);
  }
}

// The block that goes to a loop's head and nowhere else, on all ways into the loop; made where there is none.
// Analyses do not know a new one.
Block block_in_front(Function& f, const Loops& loops, Block head);

// The edge leads elsewhere with the arguments it has. O(arguments).
void lead_to(Function& f, Edge e, Block to);

}  // namespace porphyry
