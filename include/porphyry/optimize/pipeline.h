// Pipelines: ordered recipes of passes, written `promote; fold; until stable { fold; sweep }`.
#pragma once

#include <string>
#include <vector>

#include "porphyry/base/diagnostics.h"
#include "porphyry/optimize/pass.h"

namespace porphyry {

struct Pipeline {
  struct Step {
    const Pass* pass = nullptr;  // or, without one:
    std::vector<Step> repeated;  // until nothing changes
  };
  std::vector<Step> steps;

  std::string text() const;
};

Result<Pipeline> read_pipeline(std::string_view text);

struct Level {
  const char* name;  // "-O1"
  const char* pipeline;
  const char* doc;
};
std::span<const Level> all_levels();
// The pipeline of "-O1" or "O1"; for an unknown level an error that lists those there are.
Result<Pipeline> level_pipeline(std::string_view name);

// What one run of a pass over one function did.
struct StepRecord {
  std::string pass, function;
  bool changed = false;
  size_t instructions_before = 0, instructions_after = 0;
  double microseconds = 0;
};

struct PipelineOptions {
  Notes* notes = nullptr;
  std::vector<StepRecord>* steps = nullptr;
  bool check_between = false;      // a pass that breaks the IR is reported, with its name
  unsigned most_repetitions = 16;  // of `until stable`
};

// Runs over every function of the module. Problems are bugs of passes.
Diagnostics run_pipeline(Module& module, const Pipeline& pipeline, const PipelineOptions& options = {});

}  // namespace porphyry
