// The allocated code of a function with pairs of a value and a place as its virtual registers.
#pragma once

#include <vector>

#include "porphyry/machine/allocate.h"

namespace porphyry::machine {

struct Pair {
  Value value;
  uint32_t place;  // a physical register, or behind those a slot
};
struct Overwrite {
  uint32_t place, row;
};
struct PairedCode {
  Code code;                          // row by row as the allocation's
  std::vector<Pair> pairs;            // by virtual register
  std::vector<Overwrite> overwrites;  // what each row takes away, by row
};

// `live_ranges` of the result are where values lay. Near-linear in the code and in those ranges.
PairedCode in_pairs(const Function& ir, const Allocation& how, const Target& target);

}  // namespace porphyry::machine
