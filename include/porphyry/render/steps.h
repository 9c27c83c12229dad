// Steps of a pipeline, what they changed, and which one broke a program, as text and JSON.
#pragma once

#include <string>

#include "porphyry/ask/check.h"
#include "porphyry/ask/steps.h"

namespace porphyry {

// Each step that changed something, then each pass with its time; before them the differences that were
// asked for. Of the steps, those of one pass and one function where the question names them; JSON has all, as
// changes name them by number.
std::string render(const StepsReport& report, bool colour = false, const StepQuestion& asked = {});
std::string render_json(const StepsReport& report);

std::string render(const CheckReport& report, bool colour = false);
std::string render_json(const CheckReport& report);

// Lines that differ, with a few around them: "-" only before, "+" only afterwards.
std::string render(const Difference& lines, bool colour = false);

}  // namespace porphyry
