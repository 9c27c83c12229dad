// Runs step by step as text and JSON.
#pragma once

#include <string>

#include "porphyry/ask/trace.h"

namespace porphyry {

// A line for each value, in decimal and hex, floats with sign, fraction and exponent; `bits` adds the bits.
std::string render(const Trace& trace, bool bits = false);
std::string render_json(const Trace& trace);

// The two runs beside each other. Of long ones, what stands around the first difference.
std::string render(const TraceComparison& both);
std::string render_json(const TraceComparison& both);

}  // namespace porphyry
