// Addresses in the frame that no access reaches go through Convention::far.
#pragma once

#include "porphyry/machine/code.h"

namespace porphyry::machine {

// Once the frame is laid out: puts lines that add up the address before those that use it. O(lines).
void reach_far_addresses(Code& f, const Target& target);

}  // namespace porphyry::machine
