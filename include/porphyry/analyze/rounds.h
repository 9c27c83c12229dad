// How a loop goes on: what each round adds to the parameters of its head, and how many rounds there are.
//
//   for (const LoopShape& loop : loop_shapes(f, dominators, loops))
//     if (auto rounds = rounds_of(f, loops, dominators, loop))
//       if (rounds->known) note(*rounds->known);
//
// All of it is read from the instructions when it is asked for; nothing is kept.
#pragma once

#include <optional>

#include "porphyry/analyze/loops.h"

namespace porphyry {

// A natural loop by its parts. Valid while blocks and edges stay as they are.
struct LoopShape {
  Block head;
  std::vector<Block> blocks;  // in reverse postorder, the head first
  Edge entry, back;           // the only ones; nothing where there are several
  std::vector<Edge> exits;
  bool innermost = true;  // no way leads back in it but to its head, so that each round ends
};
// All loops, inner ones before those around them. O(blocks * depth).
std::vector<LoopShape> loop_shapes(const Function& f, const Dominators& dominators, const Loops& loops);
// Finds the only ways in and back again, after a pass has copied or made blocks elsewhere. O(ways in).
void find_ways_in(const Function& f, const Loops& loops, LoopShape& loop);

// Whether a value is the same in all rounds: it is defined outside of the loop. O(1).
bool stays_same(const Function& f, const Loops& loops, Block head, Value v);

// A parameter of a head that is start + k * step in round k, the first being 0.
struct Progress {
  Value parameter, start;
  Value step;         // stays the same: an integer, constant in most cases. Nothing: of a pointer, see bytes
  int64_t bytes = 0;  // a pointer moves on by this
  Instruction next;   // makes the next round's
  bool fits_s = false, fits_u = false;  // no round's sum wraps
};
std::optional<Progress> progress_of(const Function& f, const Loops& loops, const LoopShape& loop,
                                    Value parameter);

// scale * parameter + offset, modulo 2^width, of a parameter of the loop's head.
struct Linear {
  Value parameter;
  Bits scale = 1, offset = 0;
  bool fits_s = true, fits_u = true;  // none of the sums on the way wraps
};
std::optional<Linear> linear_in(const Function& f, Block head, Value v);

// How often a loop goes on.
struct Rounds {
  enum class Kind : uint8_t {
    Counted,    // goes on while first + k * step stands in `relation` to the limit
    BitsSet,    // x = x and (x - 1) until 0: goes on once for each bit of `start` that is set
    BitLength,  // x = shr.u x, 1 until 0
    TailLength  // x = shl x, 1 until 0
  };
  Kind kind = Kind::Counted;
  Edge stays, leaves;  // of the branch that decides, which each round comes to
  // Counted: `first` is what is compared in round 0: start * scale + offset.
  Value parameter, start;
  Bits scale = 1, offset = 0;
  int64_t step = 0;  // of what is compared
  Op relation = Op::Ne;
  Value limit;
  // Of the other kinds: whether what is compared is already the next round's.
  bool next = false;
  // How often the branch stays, when that is a number.
  std::optional<uint64_t> known;
  bool only_exit = false;  // nothing else leaves the loop
};
// Nothing when no branch is found that decides, or when what is compared might wrap before it leaves.
std::optional<Rounds> rounds_of(const Function& f, const Loops& loops, const Dominators& dominators,
                                const LoopShape& loop);

}  // namespace porphyry
