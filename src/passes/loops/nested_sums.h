// Sums of inner loops that are added to a sum around them.
#pragma once

#include "porphyry/analyze/dominators.h"
#include "porphyry/ir/function.h"

namespace porphyry {

// What `add inner, outer` adds where `inner` came from 0 by sums alone, through parameters of blocks, and
// nothing else looks at it on the way: it may come from `outer` instead.
struct NestedSum {
  Instruction last;  // the sum of both, which `inner` is then
  Value inner, outer;
  std::vector<Slot> zeros;        // arguments that become `outer`
  std::vector<Instruction> sums;  // what is added in between: promises of theirs hold no longer
};

// O(uses of what is looked at), which is bounded.
std::optional<NestedSum> nested_sum(const Function& f, const Dominators& dominators, Instruction last);
// The last sum is erased.
void carry_through(Function& f, const NestedSum& sum);

}  // namespace porphyry
