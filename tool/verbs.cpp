#include "verbs.h"

#include <fmt/format.h>

#include "common.h"
#include "instances.h"
#include "page.h"
#include "porphyry/analyze/verify.h"
#include "porphyry/ask/views.h"
#include "porphyry/call/call.h"
#include "porphyry/formats/format.h"
#include "porphyry/formats/packed.h"
#include "porphyry/formats/wasm.h"
#include "porphyry/machine/legalize.h"
#include "porphyry/object/object.h"
#include "porphyry/object/read.h"
#include "porphyry/print/print.h"
#include "porphyry/render/diagnostics.h"
#include "porphyry/render/drawing.h"
#include "porphyry/render/graph.h"
#include "porphyry/render/listing.h"
#include "porphyry/render/operations.h"
#include "porphyry/render/sample.h"
#include "porphyry/render/slices.h"

namespace porphyry::tool {

// Both in the program as it is, and in the code that it becomes.
static void check_secrets(const Options& o) {
  if (o.files.size() > 1) fail({complaint("several files are given", "one, with --secret")}, call_at_fault);
  const machine::Target& target = target_of(o);
  machine::LowerOptions options = lower_options(o, target);
  options.explain = true;
  auto loaded = load(o);
  SecretReport report{.in_program = secret_uses(*loaded->module)};
  loaded = optimized(o, std::move(loaded), pipeline_of(o, "-O0"));
  auto lowered = machine::lower(*loaded->module, target, options);
  if (!lowered) fail(lowered.why(), input_at_fault);
  report.in_code = secret_uses(*lowered, target);
  put_out(o, o.json ? render_json(report) : render(report, in_colour(o)));
  if (!report.in_program.empty() || !report.in_code.empty()) throw Failure{input_at_fault, {}};
}

int verb_check(const Options& o) {
  if (o.secret) return guarded([&] { check_secrets(o); });
  if (int status = guarded([&] {
        refuse_idle(o, {{"-O", "-O with --secret", false},
                        {"--pipeline", "--pipeline with --secret", false},
                        {"--target", "--target with --secret", false},
                        {"--with", "--with with --secret", false}});
      }))
    return status;
  if (!o.json) return over_inputs(o, "", [](const Options& one) { return load(one), std::string(); });
  return guarded([&] {
    Diagnostics all;
    for (const std::string& file : o.files) {
      Options one = o;
      one.file = file;
      Realm realm;
      SourceText source(file, input_of(one));
      auto module = load_module(realm, source);
      if (!module) all.insert(all.end(), module.why().begin(), module.why().end());
    }
    put_out(o, render_json(all));
    if (!all.empty()) throw Failure{input_at_fault, {}};
  });
}

// Whether a function of an object has this name: the linker's, or the one of the source, with or without
// parameters.
static bool is_called(const machine::FunctionListing& f, std::string_view name) {
  std::string_view source = f.signature;
  source.remove_prefix(std::min(source.find_first_not_of(' '), source.size()));
  std::string_view without = source.substr(0, source.find('('));
  std::string_view last = without.substr(without.rfind("::") == without.npos ? 0 : without.rfind("::") + 2);
  return f.name == name || (!source.empty() && (source == name || without == name || last == name));
}

// An object file of any compiler, in the form of our own listings.
static void show_object(const std::string& bytes, const Options& o) {
  const machine::Target& target = target_of(o);
  auto object = read_object(o.file, bytes);
  if (!object) fail(object.why(), input_at_fault);
  if (object->file.machine != target.object.machine)
    fail(
        {complaint("'" + o.file + "' is for another processor", "an object for " + std::string(target.name))},
        input_at_fault);
  ObjectListing all = list_object(*object, target);
  if (!o.function.empty()) {
    std::vector<std::string> names;
    for (const auto& f : all.functions) names.push_back(f.name);
    std::erase_if(all.functions, [&](const auto& f) { return !is_called(f, o.function); });
    if (all.functions.empty())
      fail({complaint("no function is called '" + o.function + "'", some_of(o.function, names))},
           call_at_fault);
  }
  if (o.as == "json" || (o.as.empty() && o.output.ends_with(".json")))
    return put_out(o, render_json(all.functions));
  if (!o.as.empty() && o.as != "listing" && o.as != "text")
    fail({complaint("an object file has no form '" + o.as + "'", "listing or json")}, call_at_fault);
  put_out(o, render(all, in_colour(o), o.function.empty()));
}

// A form that --as names, or that the ending of -o asks for.
static std::string drawn_form(const Options& o) {
  for (const char* form : {"dot", "svg", "png", "json"})
    if (o.as == form || (o.as.empty() && o.output.ends_with(std::string(".") + form))) return form;
  if (!o.as.empty() && o.as != "text")
    fail({complaint("there is no form '" + o.as + "'", "text, dot, svg, png or json")}, call_at_fault);
  return "text";
}

// By Graphviz, unless the drawing is left to others.
static std::string drawn(const std::string& dot, const Options& o, const std::string& as) {
  if (as == "dot") return dot;
  if (as == "png" && o.output.empty() && on_terminal())
    fail({complaint("pictures are nothing for a terminal", "-o FILE.png, or a pipe")}, call_at_fault);
  auto out = filtered("dot -T" + as, dot);
  if (!out)
    fail({complaint("the program 'dot' of Graphviz could not draw the graph",
                    "the package graphviz installed, or --as dot")},
         input_at_fault);
  return *out;
}

static Symbol only_function(const Module& module, const Options& o, const char* what) {
  std::vector<std::string> names;
  for (Symbol s : module.functions()) names.emplace_back(module.symbol_name(s));
  if (o.function.empty() && names.size() != 1)
    fail({complaint(std::string(what) + " shows one function", "--function with " + listed(names))},
         call_at_fault);
  return function_of(module, o.function.empty() ? names[0] : o.function);
}

static void show_view(const Module& module, const Options& o, const Notes& notes) {
  const std::string as = drawn_form(o);
  const View* view = view_named(o.view);
  if (!view) {
    std::vector<std::string> names = {"blocks", "drawings"};
    for (const View& v : all_views()) names.emplace_back(v.name);
    fail({complaint("there is no view '" + o.view + "'", listed(names))}, call_at_fault);
  }
  const Drawing d =
      view->draw(module, view->of_module ? Symbol() : only_function(module, o, "this view"), notes);
  put_out(o, as == "text"   ? render(d, in_colour(o))
             : as == "json" ? render_json(d)
                            : drawn(render_dot(d), o, as));
}

// Those that passes left: all of them as text, one as a picture.
static void show_drawings(const std::vector<Drawing>& drawings, const Options& o) {
  const std::string as = drawn_form(o);
  std::vector<Drawing> shown;
  for (const Drawing& d : drawings)
    if (o.function.empty() || d.title.find(o.function) != d.title.npos) shown.push_back(d);
  if (shown.empty())
    fail({complaint("no pass left a drawing",
                    "--pipeline with a pass that draws, and --passes for its library")},
         call_at_fault);
  if (as != "text" && shown.size() > 1) {
    std::vector<std::string> titles;
    for (const Drawing& d : shown) titles.push_back(d.title);
    fail({complaint("a picture shows one drawing",
                    "--function with what one of these names: " + some_of("", titles))},
         call_at_fault);
  }
  if (as == "json") return put_out(o, render_json(shown[0]));
  if (as != "text") return put_out(o, drawn(render_dot(shown[0]), o, as));
  std::string out;
  for (const Drawing& d : shown) out += (out.empty() ? "" : "\n") + render(d, in_colour(o));
  put_out(o, out);
}

static void show_slice(const Module& module, const Options& o) {
  const std::string as = drawn_form(o);
  auto s = slice(module, only_function(module, o, "a slice"), o.slice,
                 o.forward ? SliceWay::Forward : SliceWay::Backward);
  if (!s) fail(s.why(), call_at_fault);
  put_out(o, as == "text"   ? render(*s, in_colour(o))
             : as == "json" ? render_json(*s)
                            : drawn(render_dot(drawing_of(*s)), o, as));
}

int verb_show(const Options& o) {
  return guarded([&] {
    refuse_idle(o, {{"--forward", "--forward with --slice", !o.slice.empty()}});
    if (!o.view.empty() && !o.slice.empty())
      fail({complaint("--view and --slice are given", "one of them")}, call_at_fault);
    if (o.as.empty()) check_ending(o, {".por", ".txt", ".dot", ".svg", ".png", ".json"});
    std::string bytes = input_of(o);
    if (is_object(bytes)) {
      refuse_idle(o, {{"-O", "-O with a module", false}, {"--pipeline", "--pipeline with a module", false}});
      return show_object(bytes, o);
    }
    refuse_idle(o, {{"--no-colour", "--no-colour with an object file", false}});
    Pipeline pipeline = pipeline_of(o, "-O0");
    Notes notes;
    std::vector<Drawing> drawings;
    auto loaded = optimized(o, load(o, std::move(bytes)), pipeline, o.view.empty() ? nullptr : &notes,
                            o.view == "drawings" ? &drawings : nullptr);
    if (o.view == "drawings") return show_drawings(drawings, o);
    if (!o.slice.empty()) return show_slice(*loaded->module, o);
    if (!o.view.empty() && o.view != "blocks") return show_view(*loaded->module, o, notes);
    std::string as = o.as;
    if (o.view == "blocks" && as.empty()) as = drawn_form(o) == "text" ? "dot" : drawn_form(o);
    for (const char* form : {"dot", "svg", "png"})
      if (as.empty() && o.output.ends_with(std::string(".") + form)) as = form;
    if (as == "dot" || as == "svg" || as == "png")
      return put_out(
          o, drawn(render_graph(*loaded->module, only_function(*loaded->module, o, "a graph")), o, as));
    if (!as.empty() && as != "text")
      fail({complaint("there is no form '" + as + "'", "text, dot, svg or png")}, call_at_fault);
    put_out(o, o.function.empty() ? write_text(*loaded->module)
                                  : write_text(*loaded->module, function_of(*loaded->module, o.function)));
  });
}

int verb_make_sample(const Options& o) {
  return guarded([&] {
    const Format& form = form_to_write(o);
    refuse_idle(o, {{"--count", "--count with --coverage", o.coverage},
                    {"--as", "--as without --coverage", !o.coverage}});
    if (o.coverage)
      check_ending(o, {".txt"});
    else
      check_form_ending(o);
    SampleCoverage coverage;
    for (uint64_t k = 0; k < o.count; ++k) {
      Realm realm;
      Sample sample = make_sample(
          realm, {.seed = o.seed + k, .layout = o.native ? std::optional(MemoryLayout{}) : std::nullopt});
      coverage.add(*sample.module);
      if (o.coverage) continue;
      put_out(o, form.write(*sample.module));
    }
    if (o.coverage) put_out(o, render(coverage));
  });
}

int verb_operations(const Options& o) {
  return guarded([&] {
    check_ending(o, {o.json ? ".json" : ".md"});
    put_out(o, o.json ? render_operations_json() : render_operations());
  });
}

// Bytes are nothing for a terminal, nor one behind the other.
static void needs_a_file(const Options& o, const char* what, const char* ending) {
  if (o.output.empty() && (on_terminal() || o.files.size() > 1))
    fail({complaint(fmt::format("{} want a file each", what),
                    fmt::format("-o FILE.{} or a folder, or one input and a pipe", ending))},
         call_at_fault);
}

int verb_pack(const Options& o) {
  if (int status = guarded([&] {
        needs_a_file(o, "packed bytes", "porb");
        if (o.files.size() < 2) check_ending(o, {".porb"});
      }))
    return status;
  return over_inputs(o, ".porb", [](const Options& one) { return write_packed(*load(one)->module); });
}

int verb_unpack(const Options& o) {
  if (int status = guarded([&] {
        if (o.files.size() < 2) check_ending(o, {".por"});
      }))
    return status;
  return over_inputs(o, ".por", [](const Options& one) { return write_text(*load(one)->module); });
}

// The program as its steps leave it, up to the one named.
static std::string legalized(Module& module, const machine::Target& target,
                             const machine::LowerOptions& options, const Options& o) {
  Pipeline steps = machine::legalization();
  if (!o.until.empty() && !machine::legalization_passes().find(o.until))
    fail({complaint("legalization has no step '" + o.until + "'", listed(steps.names()))}, call_at_fault);
  refuse_illegal(module, target);
  machine::Features features = options.features.value_or(target.usual_features);
  machine::legalize(module, target, machine::Coverage(target, features), {.pipeline = steps.until(o.until)});
  return o.function.empty() ? write_text(module) : write_text(module, function_of(module, o.function));
}

// What `lower` can give, and the endings of files that ask for it.
struct LoweredForm {
  const char *name, *ending;
};
static constexpr LoweredForm lowered_forms[] = {{"listing", ".txt"}, {"object", ".o"}, {"assembly", ".s"},
                                                {"json", ".json"},   {"ir", ".por"},   {"page", ".html"}};

static const LoweredForm& lowered_form(const Options& o) {
  std::vector<std::string> names;
  for (const LoweredForm& f : lowered_forms) {
    bool by_ending = o.as.empty() && std::string_view(f.name) != "listing" && o.output.ends_with(f.ending);
    if (o.as == f.name || by_ending) return f;
    names.emplace_back(f.name);
  }
  if (!o.as.empty()) fail({complaint("there is no form '" + o.as + "'", listed(names))}, call_at_fault);
  return lowered_forms[0];
}

static std::string lowered(const Options& o, std::string_view as) {
  if (as == "page") return page_of(o, usual_sides(o, {"-O0"}), "program", "-O0");
  const machine::Target& target = target_of(o);
  machine::LowerOptions options = lower_options(o, target);
  options.explain = as == "listing" || as == "json";
  options.keep_bodies = as != "object";
  options.exported = true;
  std::string bytes = input_of(o);
  const bool is_wasm = wasm::is_wasm(bytes);
  bool for_c = is_wasm && (as == "object" || as == "assembly");
  if (!for_c) refuse_idle(o, {{"--header", "--header with an object of WebAssembly", false}});
  auto loaded = for_c ? load_for_c(o, std::move(bytes)) : load(o, std::move(bytes));
  loaded = optimized(o, std::move(loaded), pipeline_of(o, "-O0"));
  if (!o.function.empty()) function_of(*loaded->module, o.function);
  if (as == "ir") return legalized(*loaded->module, target, options, o);
  if (as == "object" || as == "assembly")
    if (Diagnostics wrong = object_problems(*loaded->module, target); !wrong.empty())
      fail(wrong, input_at_fault);
  if (!is_wasm) follow_variables(options, *loaded->module);  // whose variables have no names
  auto code = machine::lower(std::move(loaded->module), target, options);
  if (!code) fail(code.why(), input_at_fault);
  if (as == "object") return elf_bytes(make_object(*code, target));
  if (as == "assembly") return render_assembly(*code, target);
  std::vector<machine::FunctionListing> listings;
  for (const auto& f : code->functions)
    if (o.function.empty() || o.function == f.name)
      listings.push_back(machine::make_listing(*code, f, target));
  if (as == "json") return render_json(listings);
  std::string out;
  bool colour = in_colour(o);
  for (const auto& l : listings) out += (out.empty() ? "" : "\n") + render(l, colour, o.lives);
  return out;
}

int verb_lower(const Options& o) {
  const LoweredForm* form = nullptr;
  if (int status = guarded([&] {
        form = &lowered_form(o);
        std::string_view as = form->name;
        if (as == "object") needs_a_file(o, "object files", "o");
        refuse_idle(o, {{"--until", "--until with --as ir: it says where legalization stops", as == "ir"},
                        {"--lives", "--lives with a listing", as == "listing"},
                        {"--no-colour", "--no-colour with a listing", as == "listing"},
                        {"--function", "--function with a listing, JSON, IR or page",
                         as != "object" && as != "assembly"}});
        if (o.as.empty() && o.files.size() < 2)
          check_ending(o, {".txt", ".o", ".s", ".json", ".por", ".html"});
      }))
    return status;
  return over_inputs(o, form->ending, [&](const Options& one) { return lowered(one, form->name); });
}

}  // namespace porphyry::tool
