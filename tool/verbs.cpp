#include "verbs.h"

#include <fmt/format.h>

#include "common.h"
#include "porphyry/analyze/verify.h"
#include "porphyry/call/call.h"
#include "porphyry/machine/legalize.h"
#include "porphyry/object/object.h"
#include "porphyry/packed/packed.h"
#include "porphyry/render/diagnostics.h"
#include "porphyry/render/graph.h"
#include "porphyry/render/listing.h"
#include "porphyry/render/notes.h"
#include "porphyry/render/operations.h"
#include "porphyry/render/sample.h"
#include "porphyry/text/writer.h"

namespace porphyry::tool {

int verb_check(const Options& o) {
  if (!o.json) return guarded([&] { load(o); });
  return guarded([&] {
    auto text = read_file(o.file == "-" ? "/dev/stdin" : o.file);
    if (!text) fail(text.why(), input_at_fault);
    Realm realm;
    SourceText source(o.file, std::move(*text));
    auto module = load_module(realm, source);
    put_out(o, render_json(module.good() ? Diagnostics{} : module.why()));
    if (!module) throw Failure{input_at_fault};
  });
}

// The block graph, drawn by Graphviz unless the drawing is left to others.
static std::string graph(const Module& module, const Options& o, const std::string& as) {
  std::vector<std::string> names;
  for (size_t k = 0; k < module.symbol_count(); ++k)
    if (module.is_function(Symbol(k))) names.emplace_back(module.symbol_name(Symbol(k)));
  if (o.function.empty() && names.size() != 1)
    fail({complaint("a graph shows one function", "--function with " + listed(names))}, call_at_fault);
  std::string dot = render_graph(module, function_of(module, o.function.empty() ? names[0] : o.function));
  if (as == "dot") return dot;
  if (as == "png" && o.output.empty() && on_terminal())
    fail({complaint("pictures are nothing for a terminal", "-o FILE.png, or a pipe")}, call_at_fault);
  auto drawn = filtered("dot -T" + as, dot);
  if (!drawn)
    fail({complaint("the program 'dot' of Graphviz could not draw the graph",
                    "the package graphviz installed, or --as dot")},
         input_at_fault);
  return *drawn;
}

int verb_show(const Options& o) {
  return guarded([&] {
    auto loaded = load_optimized(o, "-O0");
    std::string as = o.as;
    for (const char* form : {"dot", "svg", "png"})
      if (as.empty() && o.output.ends_with(std::string(".") + form)) as = form;
    if (as == "dot" || as == "svg" || as == "png") return put_out(o, graph(*loaded->module, o, as));
    if (!as.empty() && as != "text")
      fail({complaint("there is no form '" + as + "'", "text, dot, svg or png")}, call_at_fault);
    put_out(o, o.function.empty() ? write_text(*loaded->module)
                                  : write_text(*loaded->module, function_of(*loaded->module, o.function)));
  });
}

int verb_make_sample(const Options& o) {
  return guarded([&] {
    SampleCoverage coverage;
    for (uint64_t k = 0; k < o.count; ++k) {
      Realm realm;
      Sample sample = make_sample(realm, {.seed = o.seed + k, .native_layout = o.native});
      coverage.add(*sample.module);
      if (o.coverage) continue;
      if (o.count > 1)
        fail({complaint("several programs do not go into one file", "--count with --coverage")},
             call_at_fault);
      put_out(o, o.as == "packed" ? write_packed(*sample.module) : write_text(*sample.module));
    }
    if (o.coverage) put_out(o, render(coverage));
  });
}

int verb_operations(const Options& o) {
  return guarded([&] { put_out(o, o.json ? render_operations_json() : render_operations()); });
}

int verb_pack(const Options& o) {
  return guarded([&] {
    if (o.output.empty() && on_terminal())
      fail({complaint("packed bytes are nothing for a terminal", "-o FILE.porb, or a pipe")}, call_at_fault);
    put_out(o, write_packed(*load(o)->module));
  });
}

int verb_unpack(const Options& o) {
  return guarded([&] { put_out(o, write_text(*load(o)->module)); });
}

int verb_optimize(const Options& o) {
  return guarded([&] {
    std::vector<StepRecord> steps;
    auto loaded = load_optimized(o, "-O1", nullptr, o.steps ? &steps : nullptr);
    if (o.steps) fmt::print(stderr, "{}", render(steps));
    put_out(o, write_text(*loaded->module));
  });
}

// The program as its steps leave it, up to the one named.
static std::string legalized(Module& module, const machine::Target& target,
                             const machine::LowerOptions& options, const Options& o) {
  const std::string& until = o.until;
  std::vector<std::string> names;
  for (const machine::LegalStep& s : machine::legal_steps()) names.emplace_back(s.name);
  if (!until.empty() && std::find(names.begin(), names.end(), until) == names.end())
    fail({complaint("legalization has no step '" + until + "'", listed(names))}, call_at_fault);
  Diagnostics wrong = machine::layout_problems(module, target);
  if (!wrong.empty()) fail(wrong, input_at_fault);
  uint8_t features = options.features.value_or(target.usual_features);
  machine::legalize(module, target, machine::Coverage(target, features), until);
  return o.function.empty() ? write_text(module) : write_text(module, function_of(module, o.function));
}

int verb_lower(const Options& o) {
  return guarded([&] {
    std::string as = !o.as.empty()                ? o.as
                     : o.output.ends_with(".s")   ? "assembly"
                     : o.output.ends_with(".o")   ? "object"
                     : o.output.ends_with(".por") ? "ir"
                                                  : "listing";
    const std::vector<std::string> forms = {"listing", "object", "assembly", "json", "ir"};
    if (std::find(forms.begin(), forms.end(), as) == forms.end())
      fail({complaint("there is no form '" + as + "'", listed(forms))}, call_at_fault);
    if (as == "object" && o.output.empty() && on_terminal())
      fail({complaint("object files are nothing for a terminal", "-o FILE.o, or a pipe")}, call_at_fault);
    const machine::Target& target = target_of(o);
    machine::LowerOptions options = lower_options(o, target);
    auto loaded = load_optimized(o, "-O0");
    if (!o.function.empty()) function_of(*loaded->module, o.function);
    if (as == "ir") return put_out(o, legalized(*loaded->module, target, options, o));
    if (!o.until.empty())
      fail({complaint("--until says where legalization stops", "--until with --as ir")}, call_at_fault);
    auto lowered = machine::lower(*loaded->module, target, options);
    if (!lowered) fail(lowered.why(), input_at_fault);
    if (as == "object") return put_out(o, elf_bytes(make_object(*lowered, target)));
    if (as == "assembly") return put_out(o, render_assembly(*lowered, target));
    std::vector<machine::FunctionListing> listings;
    for (const auto& f : lowered->functions)
      if (o.function.empty() || o.function == f.name)
        listings.push_back(machine::make_listing(*lowered, f, target));
    if (as == "json") return put_out(o, render_json(listings));
    std::string out;
    bool colour = o.output.empty() && on_terminal() && !o.no_colour;
    for (const auto& l : listings) out += (out.empty() ? "" : "\n") + render(l, colour);
    put_out(o, out);
  });
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
      std::vector<std::string> names(4, "…");
      fmt::print(stderr, "{} + {:04x}  {:<40}{}\n", f->name, seen.address - start,
                 spell(target_, *seen.instruction, names), changes);
    }
    last_ = *seen.state;
    started_ = true;
  }

 private:
  std::string change(unsigned r, Word v) const {
    unsigned bits = target_.classes[target_.class_of(r)].bits;
    std::string name(target_.register_name(r, bits));
    uint64_t low = static_cast<uint64_t>(v), high = static_cast<uint64_t>(v >> 64);
    return high ? fmt::format("{}={:#x}:{:016x}", name, high, low) : fmt::format("{}={:#x}", name, low);
  }

  const machine::Target& target_;
  std::vector<std::pair<uint64_t, const machine::CompiledFunction*>> places_;
  simulate::State last_;
  bool started_ = false;
};

int verb_run(const Options& o) {
  return guarded([&] {
    if (o.on != "eval" && o.on != "native" && o.on != "sim")
      fail({complaint("nothing runs on '" + o.on + "'", "eval, native or sim")}, call_at_fault);
    if (o.trace && o.on != "sim")
      fail({complaint("only the simulator shows each instruction", "--trace with --on sim")}, call_at_fault);
    const machine::Target& target = target_of(o);
    machine::LowerOptions options = lower_options(o, target);
    auto loaded = load_optimized(o, "-O0");
    std::vector<std::string> words;
    for (const std::string& w : o.words)
      words.push_back(w.starts_with(number_mark) ? w.substr(number_mark.size()) : w);
    auto call = prepare_call(*loaded->module, o.function, words);
    if (!call) fail(call.why(), call_at_fault);
    CallOutcome out;
    if (o.on == "eval") {
      out = run_on_evaluator(*loaded->module, *call, {.seed = o.seed, .step_limit = o.step_limit});
    } else {
      auto jit = Jit::compile(*loaded->module, target, options);
      if (!jit) fail(jit.why(), input_at_fault);
      if (o.on == "native") {
        out = run_on_processor(*loaded->module, **jit, target, *call, o.time_limit);
      } else {
        simulate::RunOptions run{.seed = o.seed, .step_limit = o.step_limit};
        Tracer tracer(**jit, target);
        if (o.trace) run.see = [&](const simulate::Observation& seen) { tracer.line(seen); };
        out = run_on_simulator(*loaded->module, **jit, target, *call, run);
      }
    }
    for (const std::string& r : out.results) fmt::print("{}\n", r);
    if (o.memory)
      for (const std::string& line : changed_memory(*call)) fmt::print("{}\n", line);
    if (out.end == CallOutcome::End::Result) return;
    static constexpr const char* ends[] = {"", "a trap", "a fault", "not finished"};
    fmt::print(stderr, "{}: {}\n", ends[static_cast<size_t>(out.end)], out.message);
    for (const std::string& line : out.trace) fmt::print(stderr, "  {}\n", line);
    throw Failure{input_at_fault};
  });
}

int verb_why(const Options& o) {
  return guarded([&] {
    Notes notes;
    auto loaded = load_optimized(o, "-O1", &notes);
    if (!o.function.empty()) {
      function_of(*loaded->module, o.function);
      std::erase_if(notes, [&](const Note& n) { return n.function != o.function; });
    }
    put_out(o, o.json ? render_json(notes) : render(notes, on_terminal()));
  });
}

}  // namespace porphyry::tool
