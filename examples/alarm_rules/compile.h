// Rules to IR: each node of the tree gives the value that its parent uses.
#pragma once

#include "porphyry/ir/module.h"
#include "tree.h"

namespace rules {

// Each function becomes one of the IR; each alarm a function of a pointer to each reading, in the order they
// are defined, and the number of the moment, that says whether it rings. All mistakes of names, units and
// counts at once, each with its place.
porphyry::Diagnostics compile(const Program& program, const porphyry::SourceText& source,
                              porphyry::Module& module);

}  // namespace rules
