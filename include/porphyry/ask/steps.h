// What each pass of a pipeline changed, and what it cost in time.
//
//   auto steps = run_in_steps(*module, *read_pipeline("promote; fold"), {}, {.function = "chill"});
//   for (const ChangedBy& c : steps->changes) …
#pragma once

#include "porphyry/ask/difference.h"
#include "porphyry/optimize/pipeline.h"

namespace porphyry {

// Which differences are wanted; an empty word means all.
struct StepQuestion {
  std::string pass, function;
};

struct ChangedBy {
  size_t step = 0;  // from 0, in StepsReport::steps
  std::string pass, function;
  Difference lines;  // of the function's text
};

struct PassTotal {
  std::string pass;
  size_t runs = 0, changed = 0;
  int64_t instructions = 0;  // more of them, or less
  double microseconds = 0;
};

struct StepsReport {
  std::vector<StepRecord> steps;   // in the order they were run, also those that changed nothing
  std::vector<ChangedBy> changes;  // those that were asked for
  std::vector<PassTotal> totals;   // by time, the longest first
};

// Runs the pipeline over the module. With a question the bodies are written down after each step that
// changed them: O(steps * size of what they changed).
Result<StepsReport> run_in_steps(Module& module, const Pipeline& pipeline, PipelineOptions options,
                                 const StepQuestion* question = nullptr);

}  // namespace porphyry
