// Where the parts of a module stand in the source that it was read from, for messages about it.
#pragma once

#include <vector>

#include "porphyry/ir/function.h"
#include "porphyry/ir/kinds.h"

namespace porphyry {

// By offsets of its bytes.
struct PlaceMap {
  struct Place {
    uint32_t offset = 0, length = 0;
  };
  struct Body {
    Place header;
    SideTable<Instruction, Place> instructions;
    SideTable<Block, Place> blocks;
    bool is_complete = true;  // false when mistakes left parts of the body out
  };
  std::vector<Body> bodies;           // by symbol
  std::vector<Place> kinds, records;  // by handle
};

}  // namespace porphyry
