// How often each block runs, for one run of the function: from the weights that edges carry, hints of
// branches, else guessed.
//
// The guesses are customary ones (T. Ball, J. Larus, "Branch Prediction for Free", 1993): a loop runs eight
// times, an edge that stays in a loop is taken rather than one that leaves it, and one that leads to a trap
// next to never. Frequencies flow along the blocks' order once (Y. Wu, J. Larus, "Static Branch Frequency and
// Program Profile Analysis", 1994, with a loop's rounds known before its body is walked). O(edges).
#pragma once

#include "porphyry/analyze/loops.h"

namespace porphyry {

class Frequencies {
 public:
  // All three are read while it is made, not later.
  Frequencies(const Function& function, const Dominators& dominators, const Loops& loops,
              std::pmr::memory_resource* memory = std::pmr::get_default_resource());

  float of(Block b) const { return times_[b]; }  // the entry: 1; what cannot be reached: 0
  // Whether only branches that are next to never taken lead to a block, for all that is known: its place is
  // out of the way.
  bool unlikely(Block b) const { return unlikely_[b]; }

 private:
  struct Share {  // of the runs of a branch that take an edge
    float value;
    bool leaves;
  };
  void find_hopeless();
  void shares(Block home);
  float rounds(Block header) const;

  const Function& f_;
  const Dominators& dominators_;
  const Loops& loops_;
  FixedTable<Block, float> times_;
  FixedTable<Block, uint8_t> unlikely_, hopeless_;  // all ways end in a trap
  std::pmr::vector<Share> shares_;                  // of the current branch, by edge
};

}  // namespace porphyry
