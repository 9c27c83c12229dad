// IR to IR, and what is asked about it: the steps, what they changed and cost, which one broke the program,
// why each pass did what it did.
#include <algorithm>

#include "common.h"
#include "porphyry/ask/check.h"
#include "porphyry/ask/steps.h"
#include "porphyry/render/steps.h"
#include "verbs.h"

namespace porphyry::tool {
namespace {

// What is told beside the module, which alone goes into a file.
bool told_in_colour(const Options& o) { return on_terminal() && !o.no_colour; }

std::vector<WrittenCall> calls_of(const Options& o) {
  std::vector<WrittenCall> out;
  for (const std::string& text : o.one_calls) out.push_back(read_call(text));
  return out;
}

// Fails when a step changed what the program means, behind the report.
std::string checked(const Options& o, Loaded& loaded, const Pipeline& pipeline) {
  if (wants_target(pipeline))
    fail({complaint("steps of legalization change what parameters are", "--check with passes over the IR")},
         call_at_fault);
  give_facts(o, *loaded.module);
  CheckOptions options{.calls = calls_of(o)};
  options.inputs.count = static_cast<unsigned>(o.inputs);
  options.inputs.attempts = 4 * options.inputs.count;
  options.inputs.limits.seed = o.seed;
  auto report = check_passes(*loaded.module, pipeline, options);
  if (!report) fail(report.why(), call_at_fault);
  std::string text = o.json ? render_json(*report) : render(*report, told_in_colour(o));
  if (!report->wrong) return text;
  tell(o, text);
  throw Failure{input_at_fault, {}};
}

std::string stepped(const Options& o, Loaded& loaded, const Pipeline& pipeline) {
  StepQuestion question{o.pass, o.function};
  if (!o.function.empty()) function_of(*loaded.module, o.function);
  auto names = pipeline.names();
  if (!o.pass.empty() && std::find(names.begin(), names.end(), o.pass) == names.end())
    fail({complaint("no step is called '" + o.pass + "'", some_of(o.pass, names))}, call_at_fault);
  std::optional<StepsReport> report;
  with_pipeline(o, *loaded.module, pipeline, nullptr, [&](const PipelineOptions& options) {
    auto ran = run_in_steps(*loaded.module, pipeline, options, o.difference ? &question : nullptr);
    if (!ran) return ran.why();
    report = std::move(*ran);
    return Diagnostics();
  });
  return o.json ? render_json(*report) : render(*report, told_in_colour(o), question);
}

}  // namespace

int verb_optimize(const Options& o) {
  const bool reports = o.steps || o.check;
  if (int status = guarded([&] {
        refuse_idle(o, {{"--difference", "--difference with --steps", o.steps},
                        {"--pass", "--pass with --steps", o.steps},
                        {"--function", "--function with --steps", o.steps},
                        {"--call", "--call with --check", o.check},
                        {"--inputs", "--inputs with --check", o.check},
                        {"--seed", "--seed with --check", o.check},
                        {"--json", "--json with --steps or --check", reports}});
        if (o.steps && o.check)
          fail({complaint("--steps and --check are given", "one of them")}, call_at_fault);
        if (o.files.size() < 2) check_form_ending(o);
      }))
    return status;
  if (!reports)
    return over_inputs(o, ".por", [](const Options& one) {
      return form_to_write(one).write(*load_optimized(one, "-O1")->module);
    });
  return guarded([&] {
    if (o.files.size() > 1) fail({complaint("several files are given", "one, to report on")}, call_at_fault);
    Pipeline pipeline = pipeline_of(o, "-O1");
    auto loaded = load(o);
    if (o.check) {
      std::string report = checked(o, *loaded, pipeline);
      tell(o, report);
      if (!o.output.empty()) loaded = optimized(o, std::move(loaded), pipeline);
    } else {
      tell(o, stepped(o, *loaded, pipeline));
    }
    if (!o.output.empty()) put_out(o, form_to_write(o).write(*loaded->module));
  });
}

}  // namespace porphyry::tool
