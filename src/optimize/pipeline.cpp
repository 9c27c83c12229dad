#include "porphyry/optimize/pipeline.h"

#include <fmt/format.h>

#include <chrono>

#include "porphyry/analyze/verify.h"

namespace porphyry {
namespace {

constexpr Level levels[] = {
    {"-O0", "", "runs no pass"},
    {"-O1", "promote; fold; sweep", "stack slots to values, constants, dead code"},
};

class PipelineReader {
 public:
  explicit PipelineReader(std::string_view text) : text_(text) {}

  Result<Pipeline> run() {
    Pipeline out;
    steps(out.steps, false);
    if (!problems_.empty()) return std::move(problems_);
    return out;
  }

 private:
  void skip_space() {
    while (at_ < text_.size() && (text_[at_] == ' ' || text_[at_] == '\n')) ++at_;
  }
  std::string word() {
    skip_space();
    size_t from = at_;
    while (at_ < text_.size() && std::string_view("; {}\n").find(text_[at_]) == std::string_view::npos) ++at_;
    return std::string(text_.substr(from, at_ - from));
  }
  bool accept(char c) {
    skip_space();
    return at_ < text_.size() && text_[at_] == c ? (++at_, true) : false;
  }
  void complain(size_t from, size_t length, std::string message, std::string expected) {
    Diagnostic d = complaint("in the pipeline: " + std::move(message), std::move(expected));
    d.excerpt = text_;
    d.mark = static_cast<uint32_t>(from);
    d.length = static_cast<uint32_t>(length);
    problems_.push_back(std::move(d));
  }

  void steps(std::vector<Pipeline::Step>& out, bool inside) {
    while (problems_.size() < 20) {
      while (accept(';')) {
      }
      skip_space();
      if (at_ == text_.size()) {
        if (inside) complain(text_.size(), 1, "the repeated steps do not end", "'}'");
        return;
      }
      if (accept('}')) {
        if (inside) return;
        complain(at_ - 1, 1, "nothing is repeated here", "a pass, ';' or the end");
        continue;
      }
      step(out);
    }
  }

  void step(std::vector<Pipeline::Step>& out) {
    size_t from = at_;
    std::string name = word();
    if (name.empty()) {
      complain(at_, 1, "this is no pass", "a pass");
      ++at_;
      return;
    }
    if (name == "until") {
      if (word() != "stable" || !accept('{'))
        return complain(from, at_ - from, "'until' is not followed by 'stable {'", "until stable { … }");
      Pipeline::Step repeated;
      steps(repeated.repeated, true);
      return out.push_back(std::move(repeated));
    }
    const Pass* pass = pass_named(name);
    std::vector<std::string> names;
    for (const Pass& p : all_passes()) names.emplace_back(p.name);
    if (!pass) return complain(from, name.size(), "no pass is called '" + name + "'", listed(names));
    out.push_back({pass, {}});
  }

  std::string_view text_;
  size_t at_ = 0;
  Diagnostics problems_;
};

std::string steps_text(const std::vector<Pipeline::Step>& steps) {
  std::string out;
  for (const auto& s : steps) {
    if (!out.empty()) out += "; ";
    out += s.pass ? s.pass->name : "until stable { " + steps_text(s.repeated) + " }";
  }
  return out;
}

size_t instruction_count(const Function& f) {
  size_t n = 0;
  for (Block b = f.entry(); b.exists(); b = f.next(b))
    for (Instruction i = f.first(b); i.exists(); i = f.next(i)) ++n;
  return n;
}

class Runner {
 public:
  Runner(Workplace& w, const PipelineOptions& options) : w_(w), options_(options) {}

  bool run(const std::vector<Pipeline::Step>& steps) {
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
    StepRecord record{pass.name, std::string(w_.module.symbol_name(w_.symbol))};
    if (options_.steps) record.instructions_before = instruction_count(w_.function);
    auto start = std::chrono::steady_clock::now();
    w_.pass = pass.name;
    record.changed = pass.run(w_);
    if (record.changed) w_.facts.keep(pass.keeps);
    record.microseconds =
        std::chrono::duration<double, std::micro>(std::chrono::steady_clock::now() - start).count();
    if (options_.steps) {
      record.instructions_after = instruction_count(w_.function);
      options_.steps->push_back(record);
    }
    if (options_.check_between && record.changed) {
      problems = verify(w_.module, w_.symbol);
      for (Diagnostic& d : problems) d.message = fmt::format("after '{}', {}", pass.name, d.message);
    }
    return record.changed;
  }

  Workplace& w_;
  const PipelineOptions& options_;
};

}  // namespace

std::string Pipeline::text() const { return steps_text(steps); }

Result<Pipeline> read_pipeline(std::string_view text) { return PipelineReader(text).run(); }

std::span<const Level> all_levels() { return levels; }

Result<Pipeline> level_pipeline(std::string_view name) {
  std::vector<std::string> names;
  for (const Level& l : levels) {
    if (name == l.name || "-" + std::string(name) == l.name) return read_pipeline(l.pipeline);
    names.emplace_back(l.name);
  }
  return complaint("no level is called '" + std::string(name) + "'", listed(names));
}

Diagnostics run_pipeline(Module& module, const Pipeline& pipeline, const PipelineOptions& options) {
  for (size_t k = 0; k < module.symbol_count(); ++k) {
    if (!module.is_function(Symbol(k))) continue;
    Workplace w(module, Symbol(k), options.notes);
    Runner runner(w, options);
    runner.run(pipeline.steps);
    if (!runner.problems.empty()) return std::move(runner.problems);
  }
  return {};
}

}  // namespace porphyry
