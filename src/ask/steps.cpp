#include "porphyry/ask/steps.h"

#include <algorithm>

#include "porphyry/print/print.h"

namespace porphyry {
namespace {

// Text stands in columns, which move with the longest name: one blank between words, so that only what
// changed differs.
std::string without_columns(const std::string& text) {
  std::string out;
  bool indented = true;
  for (char c : text) {
    if (c == ' ' && !indented && out.back() == ' ') continue;
    indented = c == '\n' || (indented && c == ' ');
    out += c;
  }
  return out;
}

std::string body_of(const Module& module, Symbol s) { return without_columns(write_text(module, s)); }

// Texts of bodies as the last step left them.
class Bodies {
 public:
  // Of one function, or all.
  Bodies(const Module& module, std::string_view only) {
    for (Symbol s : module.functions())
      if (only.empty() || module.symbol_name(s) == only) text(s) = body_of(module, s);
  }
  // What differs from the last time; then what is now is the last time.
  Difference change(const Module& module, Symbol s) {
    std::string now = body_of(module, s);
    if (now == text(s)) return {};
    Difference out = difference(text(s), now);
    text(s) = std::move(now);
    return out;
  }

 private:
  std::string& text(Symbol s) {
    if (s.index >= texts_.size()) texts_.resize(s.index + 1);
    return texts_[s.index];
  }
  std::vector<std::string> texts_;
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
  if (question) {
    bodies.emplace(module, question->function);
    options.watch = [&](const PassRun& run) {
      for (Symbol s : module.functions()) {
        if (run.function.exists() && s != run.function) continue;
        std::string name(module.symbol_name(s));
        if (!question->function.empty() && question->function != name) continue;
        Difference lines = bodies->change(module, s);
        const bool asked = question->pass.empty() || question->pass == run.pass;
        if (asked && !lines.empty())
          out.changes.push_back({out.steps.size() - 1, std::string(run.pass), name, std::move(lines)});
      }
      return true;
    };
  }
  if (Diagnostics broken = run_pipeline(module, pipeline, options); !broken.empty()) return broken;
  out.totals = totals_of(out.steps);
  return out;
}

}  // namespace porphyry
