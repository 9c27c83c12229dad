// Notes and pipeline steps as text and JSON.
#pragma once

#include <string>

#include "porphyry/optimize/pipeline.h"

namespace porphyry {

std::string render(const Notes& notes, bool colour = false);
std::string render_json(const Notes& notes);
std::string render(const std::vector<StepRecord>& steps);

}  // namespace porphyry
