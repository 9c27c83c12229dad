// Builds side by side, as text and JSON.
#pragma once

#include <string>

#include "porphyry/ask/compare.h"

namespace porphyry {

// Two builds: every figure that differs, "before to after"; more: one figure in a grid.
std::string render(const Compared& table, const Figure& by, bool colour = false);
std::string render_json(const Compared& table);

// Two builds of one function beside each other, with a summary of what is common.
std::string render(const std::vector<AlignedLine>& lines, const Build& left, const Build& right,
                   std::string_view function, bool colour = false);
std::string render_json(const std::vector<AlignedLine>& lines, const Build& left, const Build& right,
                        std::string_view function);

}  // namespace porphyry
