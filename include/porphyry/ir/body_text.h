// What a function does, written down so that equal texts are equal bodies: values and blocks numbered as they
// come in reverse postorder; names, positions and comments left out. Not for reading.
#pragma once

#include <functional>
#include <string>

#include "porphyry/ir/function.h"

namespace porphyry {

struct BodyTextOptions {
  bool weights = true;  // of edges
  // What stands for a symbol; its number in the module where nothing is given.
  std::function<uint64_t(Symbol)> symbol = {};
};
// O(instructions).
std::string body_text(const Function& f, const BodyTextOptions& options = {});

}  // namespace porphyry
