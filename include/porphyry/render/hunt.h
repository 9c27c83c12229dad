// What a search for a pipeline has found, as text and JSON.
#pragma once

#include <string>

#include "porphyry/ask/hunt.h"

namespace porphyry {

std::string render(const Recipe& recipe, const HuntState& state, const HuntQuestion& question);
std::string render_json(const Recipe& recipe, const HuntState& state, const HuntQuestion& question);

}  // namespace porphyry
