// Slices and secrets as text and JSON.
#pragma once

#include <string>

#include "porphyry/ask/secrets.h"
#include "porphyry/ask/slice.h"

namespace porphyry {

// A line for each step, by distance, with what it belongs to.
std::string render(const Slice& slice, bool colour = false);
std::string render_json(const Slice& slice);

// Of one program.
struct SecretReport {
  std::vector<SecretUse> in_program, in_code;
};
std::string render(const SecretReport& report, bool colour = false);
std::string render_json(const SecretReport& report);

}  // namespace porphyry
