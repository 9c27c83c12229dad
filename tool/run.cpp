// The verb that calls a function: in the evaluator, on the processor, or simulated at any stage of its code.
#include <fmt/format.h>

#include <algorithm>

#include "common.h"
#include "instances.h"
#include "porphyry/ask/trace_code.h"
#include "porphyry/base/files.h"
#include "porphyry/call/call.h"
#include "porphyry/formats/record.h"
#include "porphyry/formats/wasm.h"
#include "porphyry/simulate/code_run.h"
#include "verbs.h"

namespace porphyry::tool {
namespace {

CallOutcome simulated(const Module& module, const Jit& jit, const machine::Target& target, PreparedCall& call,
                      const Options& o, const machine::LowerOptions& lower) {
  // Some ten seconds, unless more is asked for.
  simulate::RunOptions run{.seed = o.seed, .step_limit = 20'000'000};
  if (o.given.contains("--step-limit")) run.step_limit = o.step_limit;
  if (o.stage.empty() || o.stage == "encoded") return run_on_simulator(module, jit, target, call, run);
  auto stage = o.stage == "selected" ? simulate::Stage::Selected : simulate::Stage::Allocated;
  auto runner = simulate::CodeRunner::make(jit, target, stage, lower.features);
  if (!runner) fail(runner.why(), input_at_fault);
  return run_code(module, **runner, call, run);
}

}  // namespace

int verb_run(const Options& o) {
  return guarded([&] {
    if (o.on != "eval" && o.on != "native" && o.on != "sim")
      fail({complaint("nothing runs on '" + o.on + "'", "eval, native or sim")}, call_at_fault);
    if (!o.stage.empty() && (o.on != "sim" || !code_stage_named(o.stage)))
      fail({complaint("'" + o.stage + "' is no stage of code that is simulated",
                      "selected, allocated or encoded, with --on sim")},
           call_at_fault);
    bool eval = o.on == "eval", native = o.on == "native", sim = o.on == "sim";
    refuse_idle(o, {{"--here", "--on native", native},
                    {"--lazy", "--on native", native},
                    {"--time-limit", "--on native", native},
                    {"--step-limit", "--on eval or --on sim", eval || sim},
                    {"--seed", "--on eval or --on sim", eval || sim},
                    {"--stage", "--on sim", sim},
                    {"--record", "--on eval", eval},
                    {"--with", "--on native or --on sim", !eval}});
    if (!o.record.empty() && !pipeline_of(o, "-O0").steps.empty())
      fail({complaint("a record tells of the program as it is read",
                      "--record without a level or a pipeline")},
           call_at_fault);
    std::string bytes = input_of(o);
    if (wasm::is_wasm(bytes)) {
      refuse_idle(o, {{"--record", "a module in text or packed form", false}});
      return run_instance(o, std::move(bytes));
    }
    refuse_idle(o, {{"--calls", "--calls with WebAssembly", false},
                    {"--guarded", "--guarded with WebAssembly", false},
                    {"--folder", "--folder with WebAssembly", false},
                    {"--env", "--env with WebAssembly", false}});
    if (o.function.empty()) fail({complaint("FUNCTION is missing", "the function to call")}, call_at_fault);
    const machine::Target& target = target_of(o);
    machine::LowerOptions options = lower_options(o, target);
    auto loaded = optimized(o, load(o, std::move(bytes)), pipeline_of(o, "-O0"));
    auto call = prepare_call(*loaded->module, o.function, call_words(o));
    if (!call) fail(call.why(), call_at_fault);
    CallOutcome out;
    if (o.on == "eval") {
      EdgeCounts counts;
      out = run_on_evaluator(
          *loaded->module, *call,
          {.seed = o.seed, .step_limit = o.step_limit, .counts = o.record.empty() ? nullptr : &counts});
      if (!o.record.empty())
        if (Diagnostics why = write_file(o.record, write_record(*loaded->module, counts)); !why.empty())
          fail(why, input_at_fault);
    } else {
      if (o.here) follow_variables(options, *loaded->module);
      JitOptions how{.lazy = o.lazy, .for_debugger = o.here, .for_profiler = o.here};
      auto jit = Jit::compile(*loaded->module, target, options, usual_externals, how);
      if (!jit) fail(jit.why(), input_at_fault);
      if (o.here) {
        out = run_here(*loaded->module, **jit, target, *call, o.time_limit);
      } else if (o.on == "native") {
        out = run_on_processor(*loaded->module, **jit, target, *call, o.time_limit);
      } else {
        out = simulated(*loaded->module, **jit, target, *call, o, options);
      }
    }
    std::string told;
    for (const std::string& r : out.results) told += r + "\n";
    if (o.memory)
      for (const std::string& line : changed_memory(*call)) told += line + "\n";
    put_out(o, told);
    if (out.end == CallOutcome::End::Result) return;
    static constexpr const char* ends[] = {"", "a trap", "a fault", "not finished"};
    say(fmt::format("{}: {}\n", ends[static_cast<size_t>(out.end)], out.message));
    for (const std::string& line : out.trace) say("  " + line + "\n");
    throw Failure{input_at_fault, {}};
  });
}

}  // namespace porphyry::tool
