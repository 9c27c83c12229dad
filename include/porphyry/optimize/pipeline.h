// Pipelines: ordered recipes of passes, written `promote; fold; until stable { fold; sweep }`. What follows a
// pass in braces, `frame { promote; fold }`, is run for the functions that it changed.
#pragma once

#include <string>
#include <vector>

#include "porphyry/optimize/pass.h"

namespace porphyry {

struct Pipeline {
  struct Step {
    std::shared_ptr<const Pass> pass;
    // With a pass: what follows in the functions that it changed, not over the module. Without one: what is
    // repeated until nothing changes.
    std::vector<Step> inner;
    bool over_module() const;  // whether it, or a step in it, is a pass over the module
  };
  std::vector<Step> steps;

  std::string text() const;
  std::vector<std::string> names() const;  // of the passes, in order
  // Up to and with the first step of this name; all of it when there is none.
  Pipeline until(std::string_view name) const;
};

// All mistakes at once, each with its column. O(length), and the table's size for names that are unknown.
Result<Pipeline> read_pipeline(std::string_view text, const PassTable& table);

// What one run of a pass did, over one function or over the module.
struct StepRecord {
  std::string pass, function;  // no function: the module
  bool changed = false;
  size_t instructions_before = 0, instructions_after = 0;
  double microseconds = 0;
};

// A run of a pass that changed something, as whoever watches is told of it.
struct PassRun {
  const Module& module;
  std::string_view pass;
  Symbol function;  // none: it worked on the module
};

// How far a run over a module is.
struct PipelineProgress {
  size_t functions_done = 0, functions = 0;  // of the steps at hand
  std::string_view function;                 // the next one
};

struct PipelineOptions {
  Notes* notes = nullptr;
  std::vector<StepRecord>* steps = nullptr;
  std::vector<Drawing>* drawings = nullptr;  // that passes leave
  // A pass that breaks the IR, or keeps analyses that do not hold any more, is reported, with its name.
  bool check_between = false;
  unsigned most_repetitions = 16;  // of `until stable`; a note tells where they did not suffice
  // Asked before each function and each pass over the module: true ends the run there, with the module whole
  // and a diagnostic. Called on the thread that runs the pipeline, like the next; either may be empty.
  std::function<bool()> cancelled = {};
  std::function<void(const PipelineProgress&)> progress = {};
  TypeMap* surroundings = nullptr;  // what passes need; see Pass::needs
  // Called behind each run of a pass that changed something, one function at a time whatever `threads` says:
  // false ends the run there, with the module whole and without a diagnostic. May be empty.
  std::function<bool(const PassRun&)> watch = {};
  // How many functions may be worked on at a time, in steps of passes that keep apart; what comes out does
  // not depend on it. 0: as many as there are processors. Small modules take fewer.
  unsigned threads = 1;
};

// Runs over every function of the module, callees before their callers, then those that are added meanwhile.
// Steps over functions that stand in a row are done function by function; a step over the module waits for
// all of them; passes that keep apart run on several threads when that is asked for. What is repeated until
// stable is repeated only for functions that changed since. Problems: a pass that lacks what it needs, before
// anything is run; that the run was cancelled; else they are bugs of passes.
Diagnostics run_pipeline(Module& module, const Pipeline& pipeline, const PipelineOptions& options = {});

// The same in parts, for a caller that has the functions one at a time: each function goes through all steps;
// `finish` after the last. No step may be over the module.
class FunctionPipeline {
 public:
  // Both must outlive this.
  FunctionPipeline(const Pipeline& pipeline, const PipelineOptions& options)
      : pipeline_(pipeline), options_(options) {}
  Diagnostics run(Module& module, Symbol function) const;
  void finish(Module& module) const;

 private:
  const Pipeline& pipeline_;
  const PipelineOptions& options_;
};

}  // namespace porphyry
