// Builds side by side: levels, pipelines, features and permits of one module, several modules, objects of any
// compiler.
#include <dlfcn.h>

#include <map>

#include "common.h"
#include "page.h"
#include "porphyry/ask/compare.h"
#include "porphyry/render/compare.h"
#include "porphyry/render/diagnostics.h"
#include "verbs.h"

namespace porphyry::tool {
namespace {

// One side of the comparison: a file, and the options of the call with those that the side's own words add.
struct Side {
  std::string name;
  Options options;
};

// "-O2 --with none night.por": words of a call; a pipeline stands in quotes.
std::vector<std::string> words_of(const std::string& text) {
  std::vector<std::string> out(1);
  bool quoted = false;
  for (char c : text) {
    if (c == '\'' || c == '"')
      quoted = !quoted;
    else if (c == ' ' && !quoted)
      out.emplace_back();
    else
      out.back() += c;
  }
  std::erase(out, "");
  return out;
}

Side side_of(const Options& o, const std::string& text) {
  Side out{text, o};
  const auto words = words_of(text);
  for (size_t k = 0; k < words.size(); ++k) {
    const std::string& w = words[k];
    const bool takes = w == "--with" || w == "--pipeline" || w == "--permit";
    if (takes && k + 1 == words.size())
      fail({complaint("'" + w + "' of the side '" + text + "' stands without its word", w + " WORD")},
           call_at_fault);
    if (w.starts_with("-O"))
      out.options.level = w.substr(2), out.options.pipeline.clear();
    else if (w == "--with")
      out.options.features = words[++k];
    else if (w == "--pipeline")
      out.options.pipeline = words[++k], out.options.level.clear();
    else if (w == "--permit")
      out.options.permits.push_back(words[++k]);
    else if (w.starts_with("-"))
      fail({complaint("a side has no option '" + w + "'", "-O, --pipeline, --with, --permit or a file")},
           call_at_fault);
    else
      out.options.file = w;
  }
  return out;
}

std::vector<Side> sides_of(const Options& o) {
  std::vector<Side> out;
  for (const std::string& text : o.sides) out.push_back(side_of(o, text));
  if (!out.empty()) {
    if (out.size() == 1) out.insert(out.begin(), {o.level.empty() ? "-O0" : "-O" + o.level, o});
    return out;
  }
  if (o.files.size() > 1) {
    for (const std::string& file : o.files) out.push_back(side_of(o, file));
    return out;
  }
  for (const Level& level : all_levels()) out.push_back(side_of(o, std::string(level.name)));
  return out;
}

// What the objects of a host's compiler call.
void* externals(std::string_view name) {
  void* known = usual_externals(name);
  return known ? known : dlsym(RTLD_DEFAULT, std::string(name).c_str());
}

struct Built {
  std::vector<std::unique_ptr<Loaded>>
      modules;  // the first one knows the signatures; names of all live in them
  std::vector<Build> builds;
};

// One side, from its bytes.
struct SideBuilt {
  std::unique_ptr<Loaded> module;  // none of an object
  std::optional<Build> build;
};

void build_side(const Side& side, const std::string& bytes, const machine::Target& target, BuildWants wants,
                SideBuilt& out) {
  if (is_object(bytes)) {
    auto object = read_object(side.options.file, bytes);
    if (!object) fail(object.why(), input_at_fault);
    if (object->file.machine != target.object.machine)
      fail({complaint("'" + side.options.file + "' is for another processor",
                      "an object for " + std::string(target.name))},
           input_at_fault);
    out.build = build_of(side.name, *object, target, externals, wants.run);
    return;
  }
  out.module = load(side.options, bytes);
  give_facts(side.options, *out.module->module);
  refuse_illegal(*out.module->module, target);
  BuildRecipe recipe{side.name, pipeline_of(side.options, "-O0"), lower_options(side.options, target)};
  if (wants_target(recipe.pipeline))
    fail({complaint("legalization is done by lowering", "a pipeline over the IR")}, call_at_fault);
  auto one = build(*out.module->module, recipe, target, wants);
  if (!one) fail(one.why(), input_at_fault);
  out.build = std::move(*one);
}

Built built(const Options& o, const machine::Target& target) {
  const std::vector<Side> sides = sides_of(o);
  std::map<std::string, std::string> bytes;  // standard input is read once
  for (const Side& side : sides)
    if (auto [at, first] = bytes.try_emplace(side.options.file); first) at->second = input_of(side.options);
  std::vector<SideBuilt> all(sides.size());
  // Each side has a module of its own. Higher levels take longer: they come first.
  each_on_all_cores(sides.size(), [&](size_t done) {
    const size_t k = sides.size() - 1 - done;
    build_side(sides[k], bytes.at(sides[k].options.file), target,
               {.run = !o.one_calls.empty(), .lines = !o.function.empty()}, all[k]);
  });
  Built out;
  for (SideBuilt& side : all) {
    if (side.module) out.modules.push_back(std::move(side.module));
    out.builds.push_back(std::move(*side.build));
  }
  return out;
}

void check_function(const std::vector<Build>& builds, const std::string& function) {
  for (const Build& b : builds)
    if (b.find(function) >= b.functions.size())
      fail({complaint("no function of " + b.name + " is called '" + function + "'",
                      some_of(function, b.names))},
           call_at_fault);
}

}  // namespace

int verb_compare(const Options& o) {
  return guarded([&] {
    if (wants_page(o)) {
      std::vector<PageSide> sides;
      if (o.sides.empty() && o.files.size() < 2)
        sides = usual_sides(o, {"-O1", "-O2"});
      else
        for (Side& s : sides_of(o)) sides.push_back({s.name, s.options});
      return put_out(o, page_of(o, sides, "differences", "-O2"));
    }
    check_ending(o, {o.json ? ".json" : ".txt", ".html"});
    const Figure* by = figure_named(o.by.empty() ? (o.one_calls.empty() ? "instructions" : "time") : o.by);
    if (!by) {
      std::vector<std::string> names;
      for (const Figure& f : all_figures()) names.emplace_back(f.name);
      fail({complaint("there is no figure '" + o.by + "'", some_of(o.by, names))}, call_at_fault);
    }
    if (!by->count && o.one_calls.empty())
      fail({complaint("nothing is run", "--call \"FUNCTION ARGUMENT …\" with --by " + o.by)}, call_at_fault);
    const machine::Target& target = target_of(o);
    auto [modules, builds] = built(o, target);
    const Module* module = modules.empty() ? nullptr : modules[0]->module.get();
    if (!o.function.empty()) {
      check_function(builds, o.function);
      if (builds.size() != 2)
        fail({complaint("lines stand beside each other in two builds", "--function with two sides")},
             call_at_fault);
      auto lines = align(builds[0].functions[builds[0].find(o.function)],
                         builds[1].functions[builds[1].find(o.function)], target);
      return put_out(o, o.json ? render_json(lines, builds[0], builds[1], o.function)
                               : render(lines, builds[0], builds[1], o.function, in_colour(o)));
    }
    if (!o.one_calls.empty()) {
      if (!module)
        fail({complaint("objects do not say what their functions take", "a module among the sides")},
             call_at_fault);
      std::vector<WrittenCall> calls;
      for (const std::string& text : o.one_calls) {
        calls.push_back(read_call(text));
        auto fits = prepare_call(*module, calls.back().function, calls.back().words);
        if (!fits) fail(fits.why(), call_at_fault);
      }
      say(render(measure(builds, *module, calls, target)));
    }
    Compared table = compare(builds, *by);
    put_out(o, o.json ? render_json(table) : render(table, *by, in_colour(o)));
  });
}

}  // namespace porphyry::tool
