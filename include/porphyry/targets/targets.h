// The targets there are. Each has a folder in src/targets/ with its book and what a book cannot say, and a
// row in targets.inc; everything else goes through these.
//
//   auto code = machine::lower(*module, *target_named("x64"), {.exported = true});
//   auto jit = Jit::compile(*module, *native_target());
#pragma once

#include <span>
#include <string_view>

#include "porphyry/machine/target.h"

namespace porphyry {

// Constant data, the same for all callers.
std::span<const machine::Target* const> all_targets();
const machine::Target* target_named(std::string_view name);  // null when there is none
// The one whose code the processor runs that runs us; null when there is none.
const machine::Target* native_target();

}  // namespace porphyry
