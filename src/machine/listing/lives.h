// Where values lived, from the allocation and the lines that came of it.
#pragma once

#include "porphyry/machine/listing.h"

namespace porphyry::machine {

// Near-linear in the code and the stays.
std::vector<FunctionListing::Life> lives_of(const LoweredModule& lowered, const CompiledFunction& f,
                                            const Target& target);

}  // namespace porphyry::machine
