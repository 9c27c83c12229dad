// Where a function sets up its frame: on the paths that need one.
#pragma once

#include "porphyry/machine/code.h"
#include "porphyry/machine/target.h"

namespace porphyry::machine {

struct FramePlace {
  uint32_t before = 0;          // at the start of this block,
  uint32_t behind = none;       // or at the end of this one, in front of its jump
  std::vector<uint8_t> stands;  // by block: whether it stands where the block ends; empty: in all
  bool at_end_of(uint32_t block) const { return stands.empty() || stands[block] != 0; }
};

// The frame is laid out and registers are allocated. `late`: not at the start where a path leaves without it.
// O(blocks + instructions).
FramePlace place_frame(const Code& f, const Target& target, bool late);

}  // namespace porphyry::machine
