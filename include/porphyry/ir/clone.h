// Copies: tables are copied as they are, so every handle means the same in the copy. O(size).
#pragma once

#include "porphyry/ir/module.h"

namespace porphyry {

std::unique_ptr<Module> clone(const Module& module);

}  // namespace porphyry
