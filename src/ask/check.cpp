// Idea: what a function shows with an input before the first step, it must show behind each. Only functions
// that may reach what a step changed are run again. The forms before and behind a wrong step come from
// running the pipeline again up to there, which always does the same, so nothing has to be copied on the way.
#include "porphyry/ask/check.h"

#include <fmt/format.h>

#include <algorithm>
#include <unordered_map>

#include "porphyry/analyze/call_sites.h"
#include "porphyry/ir/clone.h"
#include "porphyry/print/literals.h"
#include "porphyry/print/print.h"

namespace porphyry {
namespace {

struct Input {
  WrittenCall call;
  Symbol function;
  Seen before;
};

// By symbol: whether a run of `root` may enter it. Calls through pointers may enter all whose address is
// taken.
std::vector<uint8_t> reached_from(const Module& module, const CallSites& sites, Symbol root) {
  std::vector<uint8_t> out(module.symbol_count());
  std::vector<Symbol> todo;
  auto reach = [&](Symbol s) {
    if (s.index < out.size() && module.is_function(s) && !out[s.index]) out[s.index] = 1, todo.push_back(s);
  };
  reach(root);
  while (!todo.empty()) {
    const Function& f = module.function(todo.back());
    todo.pop_back();
    for (Block b : f.blocks())
      for (Instruction i : f.instructions(b)) {
        Layout layout = info(f.op(i)).layout;
        if (layout == Layout::Call) reach(f.symbol(i));
        if (layout == Layout::CallThrough)
          for (Symbol s : module.functions())
            if (sites.address_taken(s)) reach(s);
      }
  }
  return out;
}

class Checker {
 public:
  Checker(const Module& module, const Pipeline& pipeline, const CheckOptions& options)
      : module_(module), pipeline_(pipeline), options_(options) {}

  Result<CheckReport> run() {
    if (Diagnostics wrong = find_inputs(); !wrong.empty()) return wrong;
    report_.calls = inputs_.size();
    auto now = clone(module_);
    Diagnostics broken = run_steps(*now, [&](const PassRun& step) {
      ++report_.steps;
      if (options_.cancelled && options_.cancelled()) return false;
      return agrees(*now, step);
    });
    if (!broken.empty()) return broken;
    if (report_.wrong) explain(*now);
    return std::move(report_);
  }

 private:
  Diagnostics find_inputs() {
    Diagnostics out;
    for (const WrittenCall& call : options_.calls) {
      auto prepared = prepare_call(module_, call.function, call.words);
      if (!prepared)
        out.insert(out.end(), prepared.why().begin(), prepared.why().end());
      else
        add(call, prepared->function);
    }
    if (!options_.calls.empty()) return out;
    for (Symbol s : module_.functions()) {
      if (module_[s].is_local) continue;
      auto calls = make_calls(module_, s, options_.inputs);
      if (calls.empty()) report_.without_inputs.emplace_back(module_.symbol_name(s));
      for (WrittenCall& c : calls) add(std::move(c), s);
    }
    return out;
  }
  void add(WrittenCall call, Symbol function) {
    if (!sites_) sites_.emplace(module_);
    if (reached_.size() <= function.index) reached_.resize(function.index + 1);
    if (reached_[function.index].empty()) reached_[function.index] = reached_from(module_, *sites_, function);
    Seen before = evaluate(module_, call, options_.inputs.limits);
    inputs_.push_back({std::move(call), function, std::move(before)});
  }

  Diagnostics run_steps(Module& now, const std::function<bool(const PassRun&)>& watch) const {
    return run_pipeline(now, pipeline_, {.surroundings = options_.surroundings, .watch = watch});
  }

  bool concerns(const Input& input, const PassRun& step) const {
    const auto& reached = reached_[input.function.index];
    return !step.function.exists() || step.function.index >= reached.size() || reached[step.function.index];
  }

  // Whether all inputs still show what they did; else what is wrong is in the report.
  bool agrees(const Module& now, const PassRun& step) {
    RunLimits limits = options_.inputs.limits;
    limits.seed += 1;  // fresh memory holds something else: what came to rest on it shows itself
    limits.steps *= 4;
    for (const Input& input : inputs_) {
      if (!concerns(input, step)) continue;
      ++report_.runs;
      std::string deviates = deviation(input.before, evaluate(now, input.call, limits));
      if (deviates.empty()) continue;
      report_.wrong.emplace();
      report_.wrong->step = report_.steps;
      report_.wrong->pass = step.pass;
      if (step.function.exists()) report_.wrong->function = now.symbol_name(step.function);
      report_.wrong->call = input.call;
      report_.wrong->deviation = std::move(deviates);
      return false;
    }
    return true;
  }

  // What the wrong step changed in the text, and which value differs.
  void explain(const Module& now) {
    WrongStep& wrong = *report_.wrong;
    auto before = clone(module_);
    size_t steps = 0;
    if (wrong.step > 1) run_steps(*before, [&](const PassRun&) { return ++steps + 1 < wrong.step; });
    wrong.value = first_changed_value(*before, now, wrong.call, options_.inputs.limits);
    Symbol changed = now.find(wrong.function.empty() ? wrong.call.function : wrong.function);
    if (!changed.exists() || changed.index >= before->symbol_count()) return;
    wrong.lines = difference(write_text(*before, changed), write_text(now, changed));
  }

  const Module& module_;
  const Pipeline& pipeline_;
  const CheckOptions& options_;
  std::optional<CallSites> sites_;
  std::vector<std::vector<uint8_t>> reached_;  // by symbol of a function with inputs
  std::vector<Input> inputs_;
  CheckReport report_;
};

// The bits that each value had, one run after the other. Addresses are left out: they mean nothing.
using Made = std::unordered_map<uint64_t, std::vector<std::vector<Bits>>>;
uint64_t key_of(Symbol f, Value v) { return uint64_t(f.index) << 32 | v.index; }

std::vector<Bits> bits_of(const Observation& seen) {
  std::vector<Bits> out;
  for (const Datum& d : seen.lanes) out.push_back(d.word());
  return out;
}
std::string number_text(Type t, const std::vector<Bits>& lanes) {
  std::vector<uint64_t> words;
  for (Bits b : lanes) {
    words.push_back(static_cast<uint64_t>(b));
    if (t.words_per_lane() == 2) words.push_back(static_cast<uint64_t>(b >> 64));
  }
  return text::literal_text(words, t);
}

}  // namespace

Result<CheckReport> check_passes(const Module& module, const Pipeline& pipeline,
                                 const CheckOptions& options) {
  return Checker(module, pipeline, options).run();
}

std::optional<ChangedValue> first_changed_value(const Module& before, const Module& after,
                                                const WrittenCall& call, const RunLimits& limits) {
  Made made;
  RunLimits followed = limits;
  followed.follow = [&](const Observation& seen) {
    if (!seen.value.exists() || before.function(seen.function).type(seen.value).is_pointer()) return;
    made[key_of(seen.function, seen.value)].push_back(bits_of(seen));
  };
  evaluate(before, call, followed);
  std::unordered_map<uint64_t, size_t> times;
  std::optional<ChangedValue> out;
  followed.follow = [&](const Observation& seen) {
    if (out || !seen.value.exists()) return;
    auto known = made.find(key_of(seen.function, seen.value));
    if (known == made.end()) return;
    const Function &was = before.function(seen.function), &is = after.function(seen.function);
    size_t time = times[known->first]++;
    if (was.type(seen.value) != is.type(seen.value) || time >= known->second.size()) return;
    std::vector<Bits> now = bits_of(seen);
    if (now == known->second[time]) return;
    Type t = is.type(seen.value);
    out = {std::string(after.symbol_name(seen.function)),
           value_text(after, is, seen.value),
           number_text(t, known->second[time]),
           number_text(t, now),
           seen.at.exists() ? place_text(after, is.position(seen.at)) : "",
           time + 1};
  };
  evaluate(after, call, followed);
  return out;
}

}  // namespace porphyry
