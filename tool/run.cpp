// The verb that calls a function: in the evaluator, on the processor, or simulated at any stage of its code.
#include <fmt/format.h>

#include <algorithm>

#include "common.h"
#include "instances.h"
#include "porphyry/base/files.h"
#include "porphyry/call/call.h"
#include "porphyry/formats/record.h"
#include "porphyry/formats/wasm.h"
#include "porphyry/machine/code_text.h"
#include "porphyry/print/literals.h"
#include "porphyry/print/print.h"
#include "porphyry/simulate/code_run.h"
#include "verbs.h"

namespace porphyry::tool {
namespace {

std::string changed_to(const std::string& name, Bits v) {
  uint64_t low = static_cast<uint64_t>(v), high = static_cast<uint64_t>(v >> 64);
  return high ? fmt::format("{}={:#x}:{:016x}", name, high, low) : fmt::format("{}={:#x}", name, low);
}

// A line for each simulated instruction: where it stands, what it is, and the registers that it changed.
class Tracer {
 public:
  Tracer(const Jit& jit, const machine::Target& target) : target_(target), last_(target) {
    for (const machine::CompiledFunction& f : jit.lowered().functions)
      places_.push_back({reinterpret_cast<uint64_t>(jit.address(f.name)), &f});
  }
  void line(const simulate::Observation& seen) {
    for (auto [start, f] : places_) {
      if (seen.address < start || seen.address >= start + f->bytes.size()) continue;
      std::string changes;
      for (size_t r = 0; r < last_.registers.size(); ++r)
        if (started_ && last_.registers[r] != seen.state->registers[r])
          changes += " " + change(static_cast<unsigned>(r), seen.state->registers[r]);
      for (size_t k = 0; k < target_.flags.size(); ++k)
        if (started_ && last_.flags[k] != seen.state->flags[k])
          changes += fmt::format(" {}{}", seen.state->flags[k] ? "" : "no ", target_.flags[k]);
      say(fmt::format("{} + {:04x}  {:<40}{}\n", f->name, seen.address - start,
                      spell(target_, *seen.instruction, "…"), changes));
    }
    last_ = *seen.state;
    started_ = true;
  }

 private:
  std::string change(unsigned r, Bits v) const {
    return changed_to(std::string(target_.register_name(r, target_.classes[target_.class_of(r)].bits)), v);
  }

  const machine::Target& target_;
  std::vector<std::pair<uint64_t, const machine::CompiledFunction*>> places_;
  simulate::State last_;
  bool started_ = false;
};

// The same for code without bytes: the block, the instruction, and what it wrote, by the names of values;
// those of values also as their type writes them.
class CodeTracer {
 public:
  CodeTracer(const Module& module, const machine::Target& target) : module_(module), target_(target) {}

  void line(const simulate::CodeObservation& seen) {
    const machine::Code& code = *seen.code;
    const machine::CodeLine& line = code.code[seen.line];
    const Function& f = module_.function(module_.find(code.name));
    std::string changes;
    machine::each_register(code, line, [&](machine::Register r, bool, bool written) {
      if (!written) return;
      bool is_virtual = machine::is_virtual(r);
      Bits v = is_virtual ? seen.virtuals[r - machine::first_virtual] : seen.state->registers[r];
      Value value = is_virtual ? code.shape(r).origin : Value();
      // What lies above a narrow value in its register is of no account.
      if (value.exists()) v &= mask_of(std::max(8u, f.type(value).total_bits()));
      changes += "  " + changed_to(machine::register_text(target_, module_, f, code, r, 64), v);
      if (value.exists()) changes += by_type(f.type(value), v);
    });
    if (changes.empty() && line.form >= machine::first_real_form &&
        machine::writes_flags(target_, code, line))
      changes = "  " + flags_that_are(*seen.state);
    auto after = std::upper_bound(code.blocks.begin(), code.blocks.end(), seen.line,
                                  [](uint32_t k, const machine::CodeBlock& b) { return k < b.first; });
    std::string where = code.name + "." + block_text(module_, f, (after - 1)->origin);
    say(fmt::format("{:<20}  {:<40}{}\n", where, machine::code_text(target_, module_, f, code, line),
                    changes));
  }

 private:
  std::string flags_that_are(const simulate::State& state) const {
    std::vector<std::string> set;
    for (size_t k = 0; k < target_.flags.size(); ++k)
      if (state.flags[k]) set.emplace_back(target_.flags[k]);
    return set.empty() ? "no flag" : listed(set, "and");
  }
  static std::string by_type(Type t, Bits bits) {
    if (t.is_pointer()) return "";
    std::string text = text::literal_text(text::lane_words(t, bits), t);
    return " " + (t.has_lanes() && text.starts_with('{') ? text : "(" + text + ")");
  }

  const Module& module_;
  const machine::Target& target_;
};

CallOutcome simulated(const Module& module, const Jit& jit, const machine::Target& target, PreparedCall& call,
                      const Options& o, const machine::LowerOptions& lower) {
  // Some ten seconds, unless more is asked for.
  simulate::RunOptions run{.seed = o.seed, .step_limit = 20'000'000};
  if (o.given.contains("--step-limit")) run.step_limit = o.step_limit;
  if (o.stage == "encoded") {
    Tracer tracer(jit, target);
    if (o.trace) run.see = [&](const simulate::Observation& seen) { tracer.line(seen); };
    return run_on_simulator(module, jit, target, call, run);
  }
  auto stage = o.stage == "selected" ? simulate::Stage::Selected : simulate::Stage::Allocated;
  auto runner = simulate::CodeRunner::make(jit, target, stage, lower.features);
  if (!runner) fail(runner.why(), input_at_fault);
  CodeTracer tracer(*jit.lowered().legal, target);
  std::function<void(const simulate::CodeObservation&)> see;
  if (o.trace) see = [&](const simulate::CodeObservation& seen) { tracer.line(seen); };
  return run_code(module, **runner, call, run, see);
}

}  // namespace

int verb_run(const Options& o) {
  return guarded([&] {
    if (o.on != "eval" && o.on != "native" && o.on != "sim")
      fail({complaint("nothing runs on '" + o.on + "'", "eval, native or sim")}, call_at_fault);
    if (o.trace && o.on != "sim")
      fail({complaint("only the simulator shows each instruction", "--trace with --on sim")}, call_at_fault);
    if (o.stage != "encoded" && (o.on != "sim" || (o.stage != "selected" && o.stage != "allocated")))
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
