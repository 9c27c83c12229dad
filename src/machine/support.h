// What cannot be lowered yet, said before anything is done.
#pragma once

#include "porphyry/base/diagnostics.h"
#include "porphyry/ir/module.h"

namespace porphyry::machine {

// Types and operations of the function that have no way to machine code, each with the instruction.
Diagnostics unsupported(const Module& module, Symbol function);

}  // namespace porphyry::machine
