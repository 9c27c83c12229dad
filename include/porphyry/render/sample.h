// How much of the language generated programs touch, as text.
#pragma once

#include <string>

#include "porphyry/sample/sample.h"

namespace porphyry {

// The share of the operation table, what is missing, and how often each operation came up.
std::string render(const SampleCoverage& coverage);

}  // namespace porphyry
