#include "porphyry/ask/steps.h"

#include <algorithm>
#include <memory>

#include "porphyry/base/parallel.h"
#include "porphyry/print/print.h"

namespace porphyry {
namespace {

// Without columns, which move with the longest name.
std::string body_of(const Module& module, Symbol s) { return write_text(module, s, Columns::None); }

using Text = std::shared_ptr<const std::string>;

// Texts of bodies as the last step left them.
class Bodies {
 public:
  // Of one function, or all.
  Bodies(const Module& module, std::string_view only) {
    for (Symbol s : module.functions())
      if (only.empty() || module.symbol_name(s) == only) take(s, body_of(module, s));
  }
  // What it was the last time, if it differs now; then what is now is the last time.
  Text changed(const Module& module, Symbol s) {
    std::string now = body_of(module, s);
    Text was = of(s);
    if (was && now == *was) return nullptr;
    take(s, std::move(now));
    return was ? was : std::make_shared<const std::string>();
  }
  Text of(Symbol s) const { return s.index < texts_.size() ? texts_[s.index] : nullptr; }

 private:
  void take(Symbol s, std::string text) {
    if (s.index >= texts_.size()) texts_.resize(s.index + 1);
    texts_[s.index] = std::make_shared<const std::string>(std::move(text));
  }
  std::vector<Text> texts_;
};

std::vector<PassTotal> totals_of(const std::vector<StepRecord>& steps) {
  std::vector<PassTotal> out;
  for (const StepRecord& s : steps) {
    auto at = std::find_if(out.begin(), out.end(), [&](const PassTotal& t) { return t.pass == s.pass; });
    if (at == out.end()) at = out.insert(out.end(), {.pass = s.pass});
    ++at->runs;
    at->changed += s.changed;
    at->instructions +=
        static_cast<int64_t>(s.instructions_after) - static_cast<int64_t>(s.instructions_before);
    at->microseconds += s.microseconds;
  }
  std::stable_sort(out.begin(), out.end(),
                   [](const PassTotal& a, const PassTotal& b) { return a.microseconds > b.microseconds; });
  return out;
}

}  // namespace

Result<StepsReport> run_in_steps(Module& module, const Pipeline& pipeline, PipelineOptions options,
                                 const StepQuestion* question) {
  StepsReport out;
  options.steps = &out.steps;
  std::optional<Bodies> bodies;
  struct Sides {
    Text before, after;
  };
  std::vector<Sides> sides;  // of out.changes: compared once all has run, on all cores
  if (question) {
    bodies.emplace(module, question->function);
    options.watch = [&](const PassRun& run) {
      for (Symbol s : module.functions()) {
        if (run.function.exists() && s != run.function) continue;
        std::string name(module.symbol_name(s));
        if (!question->function.empty() && question->function != name) continue;
        Text before = bodies->changed(module, s);
        if (!before || !(question->pass.empty() || question->pass == run.pass)) continue;
        out.changes.push_back({out.steps.size() - 1, std::string(run.pass), name, {}});
        sides.push_back({std::move(before), bodies->of(s)});
      }
      return true;
    };
  }
  if (Diagnostics broken = run_pipeline(module, pipeline, options); !broken.empty()) return broken;
  on_all_cores(sides.size(), [&](size_t k) {
    out.changes[k].lines = difference(*sides[k].before, *sides[k].after);
    sides[k] = {};
  });
  out.totals = totals_of(out.steps);
  return out;
}

}  // namespace porphyry
