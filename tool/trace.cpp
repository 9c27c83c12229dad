// A call step by step, alone or beside another form of the program.
#include <filesystem>

#include "common.h"
#include "porphyry/ask/trace_code.h"
#include "porphyry/formats/wasm.h"
#include "porphyry/ir/clone.h"
#include "porphyry/render/trace.h"
#include "verbs.h"

namespace porphyry::tool {
namespace {

// The other form: a file's program as it is, or the same program behind other passes.
std::unique_ptr<Loaded> other_form(const Options& o) {
  const bool is_level = level_named(o.against).good();
  Options other = o;
  if (!is_level && std::filesystem::exists(o.against)) {
    other.file = o.against;
    return optimized(other, load(other), pipeline_of(other, "-O0"));
  }
  return optimized(other, load(other), pipeline_named(o, o.against));
}

}  // namespace

int verb_trace(const Options& o) {
  return guarded([&] {
    if (o.function.empty()) fail({complaint("FUNCTION is missing", "the function to call")}, call_at_fault);
    refuse_idle(o, {{"--bits", "--bits without --against", o.against.empty()},
                    {"--target", "--stage with a stage of code", code_stage_named(o.stage).has_value()},
                    {"--with", "--stage with a stage of code", code_stage_named(o.stage).has_value()}});
    check_ending(o, {o.json ? ".json" : ".txt"});
    if (!o.against.empty() && o.file == "-")
      fail({complaint("both forms would be read from standard input", "a file")}, call_at_fault);
    std::string bytes = input_of(o);
    if (wasm::is_wasm(bytes))
      fail({complaint("functions of WebAssembly need an instance around them",
                      "a module in text or packed form")},
           call_at_fault);
    auto loaded = optimized(o, load(o, std::move(bytes)), pipeline_of(o, "-O0"));
    TraceOptions options{.function = o.inside, .value = o.value, .skip = o.skip, .most = o.lines};
    options.limits = {.seed = o.seed, .steps = o.step_limit};
    if (!o.inside.empty()) function_of(*loaded->module, o.inside);
    const WrittenCall call{o.function, call_words(o)};
    const auto stage = code_stage_named(o.stage);
    if (!stage && !o.stage.empty() && o.stage != "ir")
      fail({complaint("'" + o.stage + "' is no stage that is traced", "ir, selected, allocated or encoded")},
           call_at_fault);
    auto traced = [&](const Module& module) {
      auto out =
          stage ? trace_code(module, target_of(o), call, {*stage, options, lower_options(o, target_of(o))})
                : trace(module, call, options);
      if (!out) fail(out.why(), call_at_fault);
      return std::move(*out);
    };
    if (o.against.empty()) {
      const Trace one = traced(*loaded->module);
      return put_out(o, o.json ? render_json(one) : render(one, o.bits));
    }
    auto other = other_form(o);
    const auto both = compare_traces(traced(*loaded->module), traced(*other->module));
    put_out(o, o.json ? render_json(both) : render(both));
    if (!both.deviation.empty()) throw Failure{input_at_fault, {}};
  });
}

}  // namespace porphyry::tool
