// Runs pipelines: steps over functions function by function, so that a function stays near the processor
// while all of them do their work, steps over the module one at a time.
#include <fmt/format.h>

#include <atomic>
#include <chrono>
#include <map>
#include <thread>

#include "porphyry/analyze/effects.h"
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

// Of each function, by symbol.
std::vector<uint64_t> changes(const Module& module) {
  std::vector<uint64_t> out(module.symbol_count());
  for (Symbol s : module.functions()) out[s.index] = module.function(s).changes();
  return out;
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

void tell_budget(std::string function, const PipelineOptions& options) {
  if (!options.notes) return;
  options.notes->push_back({.kind = Note::Kind::Declined,
                            .pass = "until stable",
                            .function = std::move(function),
                            .what = "the steps are not repeated once more",
                            .why = "the last round still changed something",
                            .figures = {{"rounds", std::to_string(options.most_repetitions)}},
                            .unlock = "more repetitions"});
}

// Steps over one function.
class FunctionRun {
 public:
  FunctionRun(FunctionContext& c, const PipelineOptions& options) : c_(c), options_(options) {}

  bool run(Steps steps) {
    bool changed = false;
    for (const auto& s : steps) {
      if (!problems.empty() || stopped) return changed;
      if (!s.pass)
        changed |= repeat(s.inner);
      else if (one(*s.pass))
        changed = true, run(s.inner);
    }
    return changed;
  }
  Diagnostics problems;
  bool stopped = false;  // by whoever watches

 private:
  bool repeat(Steps steps) {
    unsigned rounds = 0;
    while (rounds < options_.most_repetitions && run(steps) && !stopped) ++rounds;
    if (rounds == options_.most_repetitions)
      tell_budget(std::string(c_.module.symbol_name(c_.symbol)), options_);
    return rounds > 0;
  }

  bool one(const Pass& pass) {
    c_.pass = pass.name;
    bool changed = recorded(
        options_, pass, c_.module.symbol_name(c_.symbol), [&] { return instruction_count(c_.function); },
        [&] {
          uint64_t before = c_.function.changes();
          // A pass that left the function alone does so again while nothing changes.
          auto same = [&](const Idle& idle) { return idle.pass == &pass && idle.changes == before; };
          if (std::any_of(idle_.begin(), idle_.end(), same)) return false;
          std::get<OverFunction>(pass.run)(c_);
          c_.ended();
          if (c_.function.changes() != before) return true;
          std::erase_if(idle_, [&](const Idle& idle) { return idle.changes != before; });
          idle_.push_back({&pass, before});
          return false;
        });
    if (!changed) return false;
    c_.facts.keep(pass.keeps);
    if (options_.watch) stopped = !options_.watch({c_.module, pass.name, c_.symbol});
    if (!options_.check_between) return true;
    problems = broken_by(pass, verify(c_.module, c_.symbol));
    for (const std::string& name : c_.facts.false_claims())
      problems.push_back(complaint(fmt::format("after '{}', the {} of '{}' are kept and do not hold",
                                               pass.name, name, c_.module.symbol_name(c_.symbol)),
                                   "a pass that keeps only what it does not change"));
    return true;
  }

  FunctionContext& c_;
  const PipelineOptions& options_;
  // Passes that changed nothing, and the function's changes then: those that are as many as now.
  struct Idle {
    const Pass* pass;
    uint64_t changes;
  };
  std::vector<Idle> idle_;
};

template <typename Visit>
void each_pass(Steps steps, Visit visit) {
  for (const auto& s : steps) {
    if (s.pass) visit(*s.pass);
    each_pass(Steps(s.inner), visit);
  }
}

void finish(Module& module, Steps steps, const PipelineOptions& options) {
  ModuleContext context{module, options.notes, options.surroundings, {}, false, options.drawings};
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
    while (!steps.empty() && goes_on()) {
      size_t plain = 0;
      while (plain < steps.size() && !steps[plain].over_module()) ++plain;
      if (plain) changed |= each_function(steps.first(plain), functions());
      steps = steps.subspan(plain);
      if (steps.empty() || !goes_on()) break;
      changed |= steps[0].pass ? one(steps[0]) : repeat(steps[0].inner);
      steps = steps.subspan(1);
    }
    return changed;
  }
  Diagnostics problems;

 private:
  bool goes_on() const { return problems.empty() && !ended_; }

  bool repeat(Steps steps) {
    unsigned rounds = 0;
    ++repeating_;
    while (rounds < options_.most_repetitions && run(steps) && goes_on()) ++rounds;
    --repeating_;
    if (rounds == options_.most_repetitions) tell_budget("", options_);
    return rounds > 0;
  }

  // Callees first.
  const std::vector<Symbol>& functions() {
    if (!facts_) facts_.emplace(module_);
    return facts_->get<CallEffects>().callees_first();
  }

  bool each_function(Steps steps, const std::vector<Symbol>& functions) {
    bool changed = false;
    const size_t known = module_.symbol_count();
    // What a round before left as it is now has nothing left to do.
    std::vector<uint64_t>* left = repeating_ ? &left_by_[steps.data()] : nullptr;
    if (left) left->resize(known, ~uint64_t(0));
    std::vector<Symbol> todo;
    for (Symbol s : functions)
      if (!left || (*left)[s.index] != module_.function(s).changes()) todo.push_back(s);
    if (unsigned threads = threads_for(steps, todo); threads > 1)
      changed = beside_each_other(steps, todo, threads);
    else
      changed = one_by_one(steps, todo);
    if (left)
      for (Symbol s : todo) (*left)[s.index] = module_.function(s).changes();
    if (goes_on()) finish(module_, steps, options_);
    if (module_.symbol_count() != known) facts_.reset();
    return changed;
  }

  bool one_by_one(Steps steps, std::span<const Symbol> todo) {
    bool changed = false;
    const size_t known = module_.symbol_count();
    // Those that are added meanwhile come last.
    for (size_t k = 0; k < todo.size() + module_.symbol_count() - known && goes_on(); ++k) {
      Symbol s = k < todo.size() ? todo[k] : Symbol(k - todo.size() + known);
      if (!module_.is_function(s)) continue;
      if (stopped(k, todo.size(), s)) break;
      FunctionContext context(module_, *facts_, s, options_.notes, options_.surroundings, options_.drawings);
      FunctionRun one(context, options_);
      changed |= one.run(steps);
      problems = std::move(one.problems);
      ended_ = one.stopped;
    }
    return changed;
  }

  unsigned threads_for(Steps steps, std::span<const Symbol> todo) const {
    unsigned most = options_.threads ? options_.threads : std::max(1u, std::thread::hardware_concurrency());
    if (most == 1 || todo.size() < 2 || options_.watch) return 1;
    bool apart = true;
    each_pass(steps, [&](const Pass& p) { apart &= p.apart; });
    if (!apart) return 1;
    constexpr size_t worth_a_thread = 20'000;
    size_t instructions = 0;
    for (Symbol s : todo) instructions += module_.function(s).instruction_limit();
    return static_cast<unsigned>(std::min<size_t>(most, 1 + instructions / worth_a_thread));
  }

  // Each function's notes, records and problems for itself; put together in the functions' order.
  bool beside_each_other(Steps steps, std::span<const Symbol> todo, unsigned threads) {
    struct Job {
      Notes notes;
      std::vector<StepRecord> steps;
      std::vector<Drawing> drawings;
      Diagnostics problems;
      bool changed = false;
    };
    std::vector<Job> jobs(todo.size());
    std::atomic<size_t> next = 0;
    std::atomic<bool> stop = false;
    auto one = [&](size_t k) {
      Job& job = jobs[k];
      PipelineOptions options = options_;
      if (options.notes) options.notes = &job.notes;
      if (options.steps) options.steps = &job.steps;
      if (options.drawings) options.drawings = &job.drawings;
      FunctionContext context(module_, *facts_, todo[k], options.notes, options.surroundings,
                              options.drawings);
      FunctionRun run(context, options);
      job.changed = run.run(steps);
      job.problems = std::move(run.problems);
      if (!job.problems.empty()) stop = true;
    };
    {
      Realm::Shared shared(module_.realm());
      std::vector<std::jthread> others;
      for (unsigned k = 1; k < threads; ++k)
        others.emplace_back([&] {
          for (size_t at; !stop && (at = next++) < todo.size();) one(at);
        });
      for (size_t at; !stop && (at = next++) < todo.size();) {
        if (stopped(at, todo.size(), todo[at]))
          stop = true;
        else
          one(at);
      }
    }
    bool changed = false;
    for (Job& job : jobs) {
      changed |= job.changed;
      if (options_.notes) std::move(job.notes.begin(), job.notes.end(), std::back_inserter(*options_.notes));
      if (options_.steps) std::move(job.steps.begin(), job.steps.end(), std::back_inserter(*options_.steps));
      if (options_.drawings)
        std::move(job.drawings.begin(), job.drawings.end(), std::back_inserter(*options_.drawings));
      if (problems.empty()) problems = std::move(job.problems);
    }
    return changed;
  }

  bool stopped(size_t done, size_t all, Symbol next) {
    if (options_.progress) options_.progress({done, all, module_.symbol_name(next)});
    if (!options_.cancelled || !options_.cancelled()) return false;
    problems.push_back(
        complaint(fmt::format("the run was cancelled before '{}'", module_.symbol_name(next))));
    return true;
  }

  bool one(const Pipeline::Step& step) {
    const Pass& pass = *step.pass;
    if (options_.cancelled && options_.cancelled()) {
      problems.push_back(complaint(fmt::format("the run was cancelled before '{}'", pass.name)));
      return false;
    }
    ModuleContext context{module_,   options_.notes, options_.surroundings,
                          pass.name, false,          options_.drawings};
    const std::vector<uint64_t> before = changes(module_);
    bool changed = recorded(
        options_, pass, "", [&] { return instruction_count(module_); },
        [&] {
          std::get<OverModule>(pass.run)(context);
          return context.changed || changes(module_) != before;
        });
    if (changed) facts_.reset();
    if (changed && options_.watch) ended_ = !options_.watch({module_, pass.name, {}});
    if (changed && options_.check_between) problems = broken_by(pass, verify(module_));
    if (!changed || step.inner.empty() || !goes_on()) return changed;
    std::vector<Symbol> changed_ones;
    for (Symbol s : functions())
      if (s.index >= before.size() || before[s.index] != module_.function(s).changes())
        changed_ones.push_back(s);
    each_function(step.inner, changed_ones);
    return true;
  }

  Module& module_;
  const PipelineOptions& options_;
  std::optional<ModuleFacts>
      facts_;  // until a pass over the module, or new functions, change what they rest on
  unsigned repeating_ = 0;
  bool ended_ = false;  // by whoever watches
  // By group of steps that is repeated: the changes of each function, by symbol, when it was last left.
  std::map<const Pipeline::Step*, std::vector<uint64_t>> left_by_;
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
  FunctionContext context(module, facts, function, options_.notes, options_.surroundings, options_.drawings);
  FunctionRun one(context, options_);
  one.run(pipeline_.steps);
  return std::move(one.problems);
}

void FunctionPipeline::finish(Module& module) const { porphyry::finish(module, pipeline_.steps, options_); }

}  // namespace porphyry
