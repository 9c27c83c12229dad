// Which pass broke it: a pipeline is run, and after each step that changed something the functions that it
// may concern are evaluated with the same inputs as before the first one.
//
//   auto report = check_passes(module, level_named("-O2")->pipeline(), {});
//   if (report->wrong) fmt::format("{} broke {}", report->wrong->pass, report->wrong->function);
#pragma once

#include "porphyry/ask/difference.h"
#include "porphyry/ask/inputs.h"
#include "porphyry/optimize/pipeline.h"

namespace porphyry {

struct CheckOptions {
  std::vector<WrittenCall> calls;  // none: they are made, for each function that others may call
  InputOptions inputs = {};
  TypeMap* surroundings = nullptr;       // as in PipelineOptions
  std::function<bool()> cancelled = {};  // asked between steps; true ends with what is known
};

// A value that both forms have and that differs, the first one in the order of the later form's run.
struct ChangedValue {
  std::string function, value, before, after;
  std::string position;  // of the source
  size_t time = 1;       // the how manieth time it was made
};

struct WrongStep {
  size_t step = 0;  // from 1, among those that changed something
  std::string pass;
  std::string function;   // whose body it changed; empty: it works on the module
  WrittenCall call;       // an input that shows it
  std::string deviation;  // "3 instead of 4", …
  std::optional<ChangedValue> value;
  Difference lines;  // what the step changed
};

struct CheckReport {
  size_t steps = 0;                         // that changed something
  size_t calls = 0;                         // inputs
  size_t runs = 0;                          // evaluated
  std::vector<std::string> without_inputs;  // functions for which no input was found
  std::optional<WrongStep> wrong;
};

// The module is left as it was. Errors: calls that do not fit the module; what run_pipeline says.
// O(steps * inputs * run), and as much again where something is wrong.
Result<CheckReport> check_passes(const Module& module, const Pipeline& pipeline,
                                 const CheckOptions& options = {});

// The first value that differs between two forms of a program in a run with one input; values are the same
// when they have the same handle in functions of the same name. Nothing where all values of both agree.
std::optional<ChangedValue> first_changed_value(const Module& before, const Module& after,
                                                const WrittenCall& call, const RunLimits& limits = {});

}  // namespace porphyry
