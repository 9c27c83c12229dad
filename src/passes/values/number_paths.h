#pragma once

#include "known_operations.h"
#include "porphyry/optimize/pass.h"

namespace porphyry {

// The second half of `number`: operations at a block where ways meet that some of the ways computed already.
// `known` has all operations of the function; `flow` is there when the function loads.
void number_on_some_paths(FunctionContext& c, const Dominators& dominators, const Alias& alias,
                          MemoryFlow* flow, KnownOperations& known);

}  // namespace porphyry
