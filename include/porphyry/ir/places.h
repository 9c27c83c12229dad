// Where the parts of a module stand in the source that it was read from, for messages about it.
#pragma once

#include <vector>

#include "porphyry/ir/function.h"
#include "porphyry/ir/kinds.h"

namespace porphyry {

// By offsets of its bytes.
struct PlaceMap {
  struct Span {
    uint32_t offset = 0, length = 0;
  };
  struct Body {
    Span header;
    SideTable<Instruction, Span> instructions;
    SideTable<Block, Span> blocks;
    bool is_complete = true;  // false when mistakes left parts of the body out
  };
  std::vector<Body> bodies;          // by symbol
  std::vector<Span> kinds, records;  // by handle
};

}  // namespace porphyry
