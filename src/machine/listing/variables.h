// Where variables of the source are in a function's code.
#pragma once

#include "porphyry/machine/emit.h"

namespace porphyry::machine {

// Near-linear in the code and the stays, and blocks times variables. What lies in the allocation must be as
// it was emitted.
std::vector<VariableFact> variable_facts(const Function& legal, std::span<const Watched> watched,
                                         const Allocation& how, const CompiledFunction& code,
                                         const Target& target);

}  // namespace porphyry::machine
