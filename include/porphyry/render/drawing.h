// Drawings as text and in the DOT language of Graphviz.
#pragma once

#include <string>

#include "porphyry/optimize/drawing.h"

namespace porphyry {

// Boxes indented, nodes with their lines and the edges that leave them, then the table.
std::string render(const Drawing& drawing, bool colour = false);
std::string render_dot(const Drawing& drawing);
std::string render_json(const Drawing& drawing);

}  // namespace porphyry
