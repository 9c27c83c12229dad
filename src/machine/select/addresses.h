// The parts of the address of an access, with what is computed below it folded in.
#pragma once

#include "porphyry/machine/code.h"

namespace porphyry::machine {

struct AddressParts {
  Value base, index;
  int64_t scale = 1, offset = 0;
  Anchor anchor = Anchor::None;
  uint32_t anchored = 0;  // Symbol: which
  Instruction reserve;    // Slot: whose object
};

// Of a load, a store, an `at`, or what makes an address itself (`reserve`, `address of`). O(length of the
// chain of `at` below it).
AddressParts address_parts(const Function& f, Instruction access, const AddressShape& shape);

}  // namespace porphyry::machine
