// Diagnostics as text for people and as JSON for programs.
#pragma once

#include <string>

#include "porphyry/base/diagnostics.h"

namespace porphyry {

// "file:line:column: message", the line with a marker under it, and what was expected; a blank line between.
std::string render(const Diagnostics& problems);
std::string render_json(const Diagnostics& problems);

}  // namespace porphyry
