// Why an instruction of a listing is what it is: the rules that were tried for its operation, and where its
// value lay.
//
//   auto lowered = machine::lower(*module, target, {.explain = true});
//   auto answer = why_code(*lowered, target, features, "chill", "gap");        // or at an offset: "0x1c"
#pragma once

#include <optional>

#include "porphyry/machine/explain.h"
#include "porphyry/machine/listing.h"

namespace porphyry {

struct CodeAnswer {
  std::string function, operation;
  std::vector<machine::ListingLine> lines;  // that it became
  machine::SelectionReasons reasons;
  std::string inside;  // the operation whose rule took it in
  std::optional<machine::FunctionListing::Life> life;
};

// `which` is a value's name in the legalized function, or an offset in the code: 28, 0x1c. The module was
// lowered with `explain` and has its bodies. An error lists the values there are.
Result<CodeAnswer> why_code(const machine::LoweredModule& lowered, const machine::Target& target,
                            machine::Features features, std::string_view function, const std::string& which);

}  // namespace porphyry
