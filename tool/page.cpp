#include "page.h"

#include <fmt/format.h>

#include <filesystem>

#include "common.h"
#include "porphyry/ask/why.h"
#include "porphyry/base/files.h"
#include "porphyry/render/page.h"

namespace porphyry::tool {

bool wants_page(const Options& o) { return o.as == "page" || (o.as.empty() && o.output.ends_with(".html")); }

// Above this many instructions a page of all levels is nothing for a browser any more.
static constexpr size_t large = 5'000;

static size_t instructions_in(const Module& module, const std::string& function) {
  size_t out = 0;
  for (Symbol s : module.functions())
    if (function.empty() || module.symbol_name(s) == function)
      for (Block b : module.function(s).blocks()) out += module.function(s).instructions(b).count();
  return out;
}

std::vector<PageSide> usual_sides(const Options& o, std::vector<std::string> when_large) {
  if (!o.pipeline.empty()) return {{o.pipeline, o}};
  std::vector<std::string> levels;
  for (const Level& l : all_levels()) levels.emplace_back(l.name);
  // Standard input is read once, by who makes the page.
  if (o.file != "-" && instructions_in(*load(o)->module, o.function) > large) {
    if (!o.level.empty()) when_large = {"-O" + o.level};
    say(fmt::format("a large program: the page has {} alone\n", listed(when_large, "and")));
    levels = std::move(when_large);
  }
  std::vector<PageSide> out;
  for (const std::string& level : levels) {
    out.push_back({level, o});
    out.back().options.level = level.substr(2);
  }
  return out;
}

namespace {

struct PageData {
  std::unique_ptr<Loaded> loaded;
  Notes notes;
  machine::LoweredModule lowered;
};

PageData built(const PageSide& side, const std::string& bytes, const machine::Target& target) {
  PageData out;
  const Pipeline pipeline = pipeline_of(side.options, "-O0");
  out.loaded = optimized(side.options, load(side.options, bytes), pipeline, &out.notes);
  Notes left = leftovers(*out.loaded->module, out.notes, pipeline.names());
  out.notes.insert(out.notes.end(), left.begin(), left.end());
  machine::LowerOptions options = lower_options(side.options, target);
  options.explain = true;
  auto lowered = machine::lower(*out.loaded->module, target, options);
  if (!lowered) fail(lowered.why(), input_at_fault);
  out.lowered = std::move(*lowered);
  return out;
}

// Of a large program that is asked about one function, the rest is left out.
void keep_only(PageData& data, const std::string& function) {
  std::erase_if(data.lowered.functions, [&](const auto& f) { return f.name != function; });
  std::erase_if(data.notes, [&](const Note& n) { return n.function != function; });
}

// Sources that lie beside the module, or here.
void add_sources(const Module& module, const std::string& file, std::map<std::string, std::string>& out) {
  const std::filesystem::path beside = std::filesystem::path(file).parent_path();
  for (const SourceFile& s : module.sources)
    for (const auto& path : {beside / s.name, std::filesystem::path(s.name)})
      if (!out.contains(s.name) && std::filesystem::is_regular_file(path))
        if (auto text = read_file(path.string())) out[s.name] = std::move(*text);
}

}  // namespace

std::string page_of(const Options& o, const std::vector<PageSide>& sides, const char* view,
                    const char* usual_level) {
  const machine::Target& target = target_of(o);
  std::map<std::string, std::string> bytes;  // standard input is read once
  PageOptions options{
      .title = o.file == "-" ? "standard input" : std::filesystem::path(o.file).filename().string(),
      .view = view,
      .version = PORPHYRY_VERSION,
      .function = o.function};
  for (const PageSide& side : sides)
    if (auto [at, first] = bytes.try_emplace(side.options.file); first) at->second = input_of(side.options);
  // On all cores: each side has a module of its own.
  std::vector<PageData> data(sides.size());
  each_on_all_cores(sides.size(),
                    [&](size_t k) { data[k] = built(sides[k], bytes.at(sides[k].options.file), target); });
  for (size_t k = 0; k < sides.size(); ++k) {
    if (!o.function.empty()) function_of(*data[k].loaded->module, o.function);
    add_sources(*data[k].loaded->module, sides[k].options.file, options.sources);
    if (sides[k].name == (o.level.empty() ? usual_level : "-O" + o.level)) options.first_build = k;
  }
  std::vector<PageBuild> builds;
  for (size_t k = 0; k < data.size(); ++k) {
    if (!o.function.empty() && instructions_in(*data[k].loaded->module, "") > large)
      keep_only(data[k], o.function);
    builds.push_back({sides[k].name, &data[k].lowered, &data[k].notes});
  }
  return render_page(builds, target, options);
}

}  // namespace porphyry::tool
