// Proofs as text and JSON.
#pragma once

#include <string>
#include <vector>

#include "porphyry/prove/functions.h"

namespace porphyry {

struct ProvedFunction {
  std::string name;
  Proof proof;
  std::string trace;  // of a counterexample, both forms in step
};
std::string render(const std::vector<ProvedFunction>& all, bool colour = false);
std::string render_json(const std::vector<ProvedFunction>& all);

}  // namespace porphyry
