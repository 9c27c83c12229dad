#include "porphyry/ask/hunt.h"

#include <fmt/format.h>

#include <algorithm>
#include <nlohmann/json.hpp>
#include <random>

#include "porphyry/analyze/verify.h"
#include "porphyry/ask/compare.h"
#include "porphyry/ask/crew.h"
#include "porphyry/base/hash.h"
#include "porphyry/base/parallel.h"
#include "porphyry/formats/text.h"
#include "porphyry/jit/jit.h"
#include "porphyry/optimize/user_passes.h"
#include "porphyry/passes/passes.h"
#include "porphyry/print/print.h"

namespace porphyry {
namespace {

constexpr double refused_cost = 1e300;
constexpr size_t longest = 80;  // steps

using Random = std::mt19937_64;
using Goal = HuntQuestion::Goal;

Pipeline pipeline_of(const Candidate& c) {
  Pipeline out;
  for (const std::string& name : c.steps)
    if (auto pass = standard_passes().find(name)) out.steps.push_back({pass, {}});
  return out;
}

// A level's steps, one after the other; what is repeated stands there once.
void flatten(const std::vector<Pipeline::Step>& steps, std::vector<std::string>& out) {
  for (const Pipeline::Step& s : steps) {
    if (s.pass) out.push_back(s.pass->name);
    flatten(s.inner, out);
  }
}

}  // namespace

class Hunter {
 public:
  Hunter(const Module& module, const HuntQuestion& question, const machine::Target& target)
      : module_(module), q_(question), target_(target), text_(write_text(module)) {}

  const HuntQuestion& question() const { return q_; }
  uint64_t program() const { return hash_of(std::string_view(text_)); }

  Diagnostics prepare() {
    Diagnostics wrong;
    for (const WrittenCall& call : q_.calls) {
      auto fits = prepare_call(module_, call.function, call.words);
      if (!fits) wrong.insert(wrong.end(), fits.why().begin(), fits.why().end());
    }
    if (q_.goal == Goal::Time && q_.calls.empty())
      wrong.push_back(complaint("nothing says what is to be fast", "calls to be timed"));
    if (!wrong.empty()) return wrong;
    auto add = [&](const WrittenCall& call) { inputs_.push_back({call, evaluate(module_, call)}); };
    for (const WrittenCall& call : q_.calls) add(call);
    for (Symbol s : module_.functions())
      if (!module_[s].is_local && (q_.function.empty() || module_.symbol_name(s) == q_.function))
        for (const WrittenCall& call : make_calls(module_, s, {.count = 6, .attempts = 24})) add(call);
    return {};
  }

  // Costs of all, in their order; false when it was cancelled.
  bool build_all(std::vector<Candidate>& all, HuntState& state) const {
    const bool finished =
        q_.crew ? q_.crew->find_costs(
                      all, [&](const Candidate& c) { return judge(pipeline_of(c)); }, q_.cancelled)
                : judge_all(all);
    if (!finished) return false;
    if (q_.goal == Goal::Time)  // one after the other, while nothing else runs here
      for (Candidate& c : all) {
        if (cancelled()) return false;
        if (c.cost < refused_cost) c.cost = time_of(*build(pipeline_of(c)).module);
      }
    state.built += all.size();
    for (const Candidate& c : all) state.refused += c.cost >= refused_cost;
    return true;
  }

  double cost_of(const Candidate& c) const { return cost_of(pipeline_of(c)); }
  double cost_of(const Pipeline& pipeline) const {
    const Built built = build(pipeline);
    return built.module ? q_.goal == Goal::Size ? bytes_of(*built.module) : time_of(*built.module)
                        : refused_cost;
  }
  // Hunt::judge
  double judge(const Pipeline& pipeline) const {
    if (q_.goal == Goal::Size) return cost_of(pipeline);
    return build(pipeline).module ? 0 : refused_cost;
  }
  uint64_t stamp() const {
    std::string all = fmt::format("{} {} {} {}\n{}", version_text, layout_stamp(), static_cast<int>(q_.goal),
                                  q_.function, text_);
    for (const auto& [call, seen] : inputs_) all += "\n" + call.text();
    return hash_of(std::string_view(all));
  }

 private:
  // In a realm of its own, so that threads share nothing. No module: it is refused.
  struct Built {
    std::unique_ptr<Realm> realm;
    std::unique_ptr<Module> module;
  };
  Built build(const Pipeline& pipeline) const {
    Built out{std::make_unique<Realm>()};
    SourceText source("the program", text_);
    out.module = std::move(*load_text(*out.realm, source));
    if (!run_pipeline(*out.module, pipeline).empty()) return {};
    for (const auto& [call, before] : inputs_)
      if (!deviation(before, evaluate(*out.module, call, {.seed = 2, .steps = 400'000})).empty()) return {};
    return out;
  }
  bool cancelled() const { return q_.cancelled && q_.cancelled(); }
  // On all cores.
  bool judge_all(std::vector<Candidate>& all) const {
    std::atomic<bool> stop = false;
    on_all_cores(
        all.size(),
        [&](size_t k) {
          if (cancelled()) stop = true;
          if (!stop) all[k].cost = judge(pipeline_of(all[k]));
        },
        q_.threads);
    return !stop;
  }
  double bytes_of(const Module& m) const {
    auto lowered = machine::lower(m, target_, q_.options);
    if (!lowered) return refused_cost;
    double out = 0;
    for (const auto& f : lowered->functions)
      if (q_.function.empty() || f.name == q_.function)
        out += static_cast<double>(f.bytes.size() + 16 * f.pool.size());
    return out;
  }
  double time_of(const Module& m) const {
    std::vector<Build> builds(1);
    builds[0].name = "candidate";
    auto code = Jit::compile(m, target_, q_.options);
    if (!code) return refused_cost;
    builds[0].code = std::move(*code);
    for (const auto& f : builds[0].code->lowered().functions) {
      builds[0].functions.push_back({.name = f.name});
      builds[0].names.push_back(f.name);
    }
    builds[0].times.resize(builds[0].names.size());
    if (!measure(builds, m, q_.calls, target_, {.rounds = 15, .seconds = 0.05}).empty()) return refused_cost;
    double out = 0;
    for (const auto& t : builds[0].times)
      if (t) out += t->least;
    return out;
  }

  const Module& module_;
  const HuntQuestion& q_;
  const machine::Target& target_;
  std::vector<std::pair<WrittenCall, Seen>> inputs_;
  std::string text_;  // of the module
};

namespace {

std::vector<Candidate> levels_as_candidates() {
  std::vector<Candidate> out;
  for (const Level& l : all_levels()) {
    out.emplace_back();
    flatten(l.pipeline().steps, out.back().steps);
  }
  return out;
}

// A pipeline like the good ones, and yet another one.
Candidate child_of(const std::vector<Candidate>& best, Random& random) {
  const auto& passes = standard_passes().all();
  auto pick = [&](size_t n) { return n ? random() % n : 0; };
  // The better, the likelier.
  Candidate out = best[std::min(pick(best.size()), pick(best.size()))];
  auto& steps = out.steps;
  auto at = [&](size_t k) { return steps.begin() + static_cast<ptrdiff_t>(k); };
  for (size_t changes = 1 + pick(3); changes-- > 0;) {
    const std::string& any = passes[pick(passes.size())]->name;
    switch (random() % 5) {
      case 0: steps.insert(at(pick(steps.size() + 1)), any); break;
      case 1:
        if (!steps.empty()) steps.erase(at(pick(steps.size())));
        break;
      case 2:
        if (!steps.empty()) steps[pick(steps.size())] = any;
        break;
      case 3:
        if (steps.size() > 1) std::swap(steps[pick(steps.size())], steps[pick(steps.size())]);
        break;
      default: {
        const auto& other = best[pick(best.size())].steps;
        steps.resize(pick(steps.size() + 1));
        const size_t from = pick(other.size() + 1);
        steps.insert(steps.end(), other.begin() + static_cast<ptrdiff_t>(from), other.end());
      }
    }
  }
  if (steps.size() > longest) steps.resize(longest);
  return out;
}

void keep_best(std::vector<Candidate>& all, size_t count) {
  std::stable_sort(all.begin(), all.end(), [](const Candidate& a, const Candidate& b) {
    return a.cost != b.cost ? a.cost < b.cost : a.steps.size() < b.steps.size();
  });
  // Of those that cost the same and have the same steps, one.
  all.erase(std::unique(all.begin(), all.end(),
                        [](const Candidate& a, const Candidate& b) { return a.steps == b.steps; }),
            all.end());
  if (all.size() > count) all.resize(count);
}

}  // namespace

std::string Candidate::text() const {
  std::string out;
  for (const std::string& s : steps) out += (out.empty() ? "" : "; ") + s;
  return out;
}

uint64_t hash_of(const Module& module) { return hash_of(std::string_view(write_text(module))); }

Hunt::Hunt(std::unique_ptr<Hunter> hunter) : hunter_(std::move(hunter)) {}
Hunt::~Hunt() = default;

Result<std::unique_ptr<Hunt>> Hunt::make(const Module& module, const HuntQuestion& question,
                                         const machine::Target& target) {
  auto hunter = std::make_unique<Hunter>(module, question, target);
  if (Diagnostics wrong = hunter->prepare(); !wrong.empty()) return wrong;
  return std::unique_ptr<Hunt>(new Hunt(std::move(hunter)));
}

double Hunt::judge(const Candidate& c) const { return hunter_->judge(pipeline_of(c)); }
uint64_t Hunt::stamp() const { return hunter_->stamp(); }

bool Hunt::next_generation(HuntState& state) const {
  const HuntQuestion& question = hunter_->question();
  HuntState now = state;
  std::vector<Candidate> all;
  if (state.best.empty()) {
    now.program = hunter_->program();
    all = levels_as_candidates();
  } else {
    Random random(state.seed * 0x9e3779b97f4a7c15 + state.generation);
    for (unsigned k = 0; k < question.children; ++k) all.push_back(child_of(state.best, random));
  }
  if (!hunter_->build_all(all, now)) return false;
  all.insert(all.begin(), state.best.begin(), state.best.end());
  std::erase_if(all, [](const Candidate& c) { return c.cost >= refused_cost; });
  keep_best(all, question.population);
  now.best = std::move(all);
  ++now.generation;
  state = std::move(now);
  return true;
}

Recipe Hunt::best(const HuntState& state) const {
  Recipe out{.pipeline = state.best[0]};
  auto& steps = out.pipeline.steps;
  auto without = [&](size_t k) {
    Candidate c = out.pipeline;
    c.steps.erase(c.steps.begin() + static_cast<ptrdiff_t>(k));
    c.cost = hunter_->cost_of(c);
    return c;
  };
  // Times differ by themselves: a step matters when it gains more than that.
  const double slack = hunter_->question().goal == Goal::Time ? 1.01 : 1;
  for (bool fewer = true; fewer;) {
    fewer = false;
    for (size_t k = steps.size(); k-- > 0;) {
      Candidate c = without(k);
      if (c.cost > out.pipeline.cost * slack) continue;
      c.cost = std::min(c.cost, out.pipeline.cost);
      out.pipeline = std::move(c);
      fewer = true;
    }
  }
  for (size_t k = 0; k < steps.size(); ++k) out.without.push_back(without(k).cost);
  for (const Level& l : all_levels()) out.levels.emplace_back(l.name, hunter_->cost_of(l.pipeline()));
  return out;
}

// ---- states -----------------------------------------------------------------------------------------------

using Json = nlohmann::ordered_json;

std::string write_state(const HuntState& state) {
  Json best = Json::array();
  for (const Candidate& c : state.best) best.push_back({{"cost", c.cost}, {"steps", c.steps}});
  return Json{{"hunt", 1},
              {"program", state.program},
              {"seed", state.seed},
              {"generation", state.generation},
              {"built", state.built},
              {"refused", state.refused},
              {"best", best}}
             .dump(2) +
         "\n";
}

Result<HuntState> read_state(const std::string& name, const std::string& text) {
  const Json j = Json::parse(text, nullptr, false);
  const Diagnostic wrong =
      complaint("'" + name + "' holds no state of a search", "a file that hunt has written");
  if (!j.is_object() || !j.contains("hunt") || j["hunt"] != 1 || !j.contains("best") || !j["best"].is_array())
    return wrong;
  HuntState out;
  for (auto [key, to] : {std::pair("program", &out.program), std::pair("seed", &out.seed),
                         std::pair("generation", &out.generation), std::pair("built", &out.built),
                         std::pair("refused", &out.refused)}) {
    if (!j.contains(key) || !j[key].is_number_unsigned()) return wrong;
    *to = j[key];
  }
  for (const Json& c : j["best"]) {
    if (!c.is_object() || !c.contains("cost") || !c["cost"].is_number() || !c.contains("steps") ||
        !c["steps"].is_array())
      return wrong;
    Candidate one{.cost = c["cost"]};
    for (const Json& step : c["steps"]) {
      if (!step.is_string()) return wrong;
      one.steps.push_back(step);
      if (!standard_passes().find(one.steps.back()))
        return complaint("'" + name + "' names a pass that there is not: " + one.steps.back(),
                         "a state of this version");
    }
    out.best.push_back(std::move(one));
  }
  return out;
}

}  // namespace porphyry
