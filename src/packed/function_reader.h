// Reads one function's body.
#pragma once

#include "in.h"
#include "porphyry/ir/module.h"

namespace porphyry::packed {

// `names` and `positions` are the file's. `budget`: how many words constants with lanes may still take, in all
// functions together: they are many times larger in memory than in the file.
void read_function(In& in, Module& module, Symbol symbol, const std::vector<Name>& names,
                   const std::vector<Position>& positions, uint64_t& budget);

}  // namespace porphyry::packed
