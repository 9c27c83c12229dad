// Copies: tables are copied as they are, so every handle means the same in the copy. O(size).
#pragma once

#include "porphyry/ir/module.h"

namespace porphyry {

std::unique_ptr<Module> clone(const Module& module);
// All but the bodies of functions, which are empty in the copy. O(what is left).
std::unique_ptr<Module> clone_declarations(const Module& module);

}  // namespace porphyry
