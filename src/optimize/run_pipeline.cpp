// Runs pipelines: steps over functions function by function, so that a function stays near the processor
// while all of them do their work, steps over the module one at a time.
#include <fmt/format.h>

#include <chrono>

#include "porphyry/analyze/verify.h"
#include "porphyry/optimize/pipeline.h"

namespace porphyry {
namespace {

using Steps = std::span<const Pipeline::Step>;

size_t instruction_count(const Function& f) {
  size_t n = 0;
  for (Block b : f.blocks()) n += f.instructions(b).count();
  return n;
}

size_t instruction_count(const Module& module) {
  size_t n = 0;
  for (Symbol s : module.functions()) n += instruction_count(module.function(s));
  return n;
}

uint64_t changes(const Module& module) {
  uint64_t n = module.symbol_count();
  for (Symbol s : module.functions()) n += module.function(s).changes();
  return n;
}

// Runs one pass, and leaves a record of it when records are wanted.
template <typename Body, typename Count>
bool recorded(const PipelineOptions& options, const Pass& pass, std::string_view function, Count count,
              Body body) {
  if (!options.steps) return body();
  StepRecord record{pass.name, std::string(function)};
  record.instructions_before = count();
  auto start = std::chrono::steady_clock::now();
  record.changed = body();
  record.microseconds =
      std::chrono::duration<double, std::micro>(std::chrono::steady_clock::now() - start).count();
  record.instructions_after = count();
  options.steps->push_back(record);
  return record.changed;
}

Diagnostics broken_by(const Pass& pass, Diagnostics problems) {
  for (Diagnostic& d : problems) d.message = fmt::format("after '{}', {}", pass.name, d.message);
  return problems;
}

// Steps over one function.
class FunctionRun {
 public:
  FunctionRun(FunctionContext& c, const PipelineOptions& options) : c_(c), options_(options) {}

  bool run(Steps steps) {
    bool changed = false;
    for (const auto& s : steps) {
      if (!problems.empty()) return changed;
      if (s.pass)
        changed |= one(*s.pass);
      else
        for (unsigned k = 0; k < options_.most_repetitions && run(s.repeated); ++k) changed = true;
    }
    return changed;
  }
  Diagnostics problems;

 private:
  bool one(const Pass& pass) {
    c_.pass = pass.name;
    bool changed = recorded(
        options_, pass, c_.module.symbol_name(c_.symbol), [&] { return instruction_count(c_.function); },
        [&] {
          uint64_t before = c_.function.changes();
          std::get<OverFunction>(pass.run)(c_);
          return c_.function.changes() != before;
        });
    if (!changed) return false;
    c_.facts.keep(pass.keeps);
    if (options_.check_between) problems = broken_by(pass, verify(c_.module, c_.symbol));
    return true;
  }

  FunctionContext& c_;
  const PipelineOptions& options_;
};

template <typename Visit>
void each_pass(Steps steps, Visit visit) {
  for (const auto& s : steps)
    if (s.pass)
      visit(*s.pass);
    else
      each_pass(Steps(s.repeated), visit);
}

bool over_module(const Pipeline::Step& step) {
  bool out = false;
  each_pass({&step, 1}, [&](const Pass& p) { out |= p.over_module(); });
  return out;
}

void finish(Module& module, Steps steps, const PipelineOptions& options) {
  ModuleContext context{module, options.notes, options.surroundings, {}, false};
  each_pass(steps, [&](const Pass& p) {
    context.pass = p.name;
    if (p.finish) p.finish(context);
  });
}

// Steps of both kinds.
class ModuleRun {
 public:
  ModuleRun(Module& module, const PipelineOptions& options) : module_(module), options_(options) {}

  bool run(Steps steps) {
    bool changed = false;
    while (!steps.empty() && problems.empty()) {
      size_t plain = 0;
      while (plain < steps.size() && !over_module(steps[plain])) ++plain;
      if (plain) changed |= each_function(steps.first(plain));
      steps = steps.subspan(plain);
      if (steps.empty() || !problems.empty()) break;
      if (steps[0].pass)
        changed |= one(*steps[0].pass);
      else
        for (unsigned k = 0; k < options_.most_repetitions && run(steps[0].repeated); ++k) changed = true;
      steps = steps.subspan(1);
    }
    return changed;
  }
  Diagnostics problems;

 private:
  bool each_function(Steps steps) {
    bool changed = false;
    ModuleFacts facts(module_);
    for (size_t k = 0; k < module_.symbol_count() && problems.empty(); ++k) {
      if (!module_.is_function(Symbol(k))) continue;
      FunctionContext context(module_, facts, Symbol(k), options_.notes, options_.surroundings);
      FunctionRun one(context, options_);
      changed |= one.run(steps);
      problems = std::move(one.problems);
    }
    if (problems.empty()) finish(module_, steps, options_);
    return changed;
  }

  bool one(const Pass& pass) {
    ModuleContext context{module_, options_.notes, options_.surroundings, pass.name, false};
    bool changed = recorded(
        options_, pass, "", [&] { return instruction_count(module_); },
        [&] {
          uint64_t before = changes(module_);
          std::get<OverModule>(pass.run)(context);
          return context.changed || changes(module_) != before;
        });
    if (changed && options_.check_between) problems = broken_by(pass, verify(module_));
    return changed;
  }

  Module& module_;
  const PipelineOptions& options_;
};

Diagnostics lacking(Steps steps, const TypeMap* surroundings) {
  Diagnostics out;
  each_pass(steps, [&](const Pass& p) {
    if (p.needs && !(surroundings && surroundings->has(p.needs)))
      out.push_back(complaint(fmt::format("the pass '{}' cannot run here", p.name), p.needs_doc));
  });
  return out;
}

}  // namespace

Diagnostics run_pipeline(Module& module, const Pipeline& pipeline, const PipelineOptions& options) {
  if (Diagnostics out = lacking(pipeline.steps, options.surroundings); !out.empty()) return out;
  ModuleRun all(module, options);
  all.run(pipeline.steps);
  return std::move(all.problems);
}

Diagnostics FunctionPipeline::run(Module& module, Symbol function) const {
  ModuleFacts facts(module);
  FunctionContext context(module, facts, function, options_.notes, options_.surroundings);
  FunctionRun one(context, options_);
  one.run(pipeline_.steps);
  return std::move(one.problems);
}

void FunctionPipeline::finish(Module& module) const { porphyry::finish(module, pipeline_.steps, options_); }

}  // namespace porphyry
