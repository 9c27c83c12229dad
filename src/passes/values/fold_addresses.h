#pragma once

#include "porphyry/ir/function.h"

namespace porphyry {

// Takes sums with constants, constant indices and `at` into the address of a load, a store or an `at`. Gives
// the instruction that is there then: the same one, another in its place, or nothing when the address stays
// as it is. O(length of `at` chains).
Instruction fold_address(Function& f, Instruction i);

}  // namespace porphyry
