// Builds, their figures and the order of functions; lines beside each other are in align.cpp.
#include "porphyry/ask/compare.h"

#include <fmt/format.h>

#include <algorithm>
#include <unordered_map>

#include "porphyry/ir/clone.h"
#include "porphyry/jit/apart.h"
#include "porphyry/optimize/permit.h"

namespace porphyry {

using machine::FunctionListing;
using Totals = FunctionListing::Totals;

std::span<const Figure> all_figures() {
  static constexpr Figure all[] = {
      {"instructions", "machine instructions", &Totals::instructions},
      {"bytes", "of code", &Totals::bytes},
      {"calls", "instructions that call", &Totals::calls},
      {"branches", "jumps on a condition", &Totals::branches},
      {"loads", "operands read from memory", &Totals::loads},
      {"stores", "operands written to memory", &Totals::stores},
      {"moves", "copies from register to register", &Totals::moves, true},
      {"spills", "registers saved to the frame", &Totals::spills, true},
      {"reloads", "registers taken back from the frame", &Totals::reloads, true},
      {"spilled_in_loops", "spills and reloads that a loop repeats", &Totals::spilled_in_loops, true},
      {"time", "nanoseconds for the calls that were given"},
      {"cycles", "of the processor, for the same"},
  };
  return all;
}

const Figure* figure_named(std::string_view name) {
  for (const Figure& f : all_figures())
    if (f.name == name) return &f;
  return nullptr;
}

BuildRecipe recipe_of(const Level& level) {
  return {std::string(level.name), level.pipeline(), machine::LowerOptions::at(level)};
}

namespace {

// As the source has it: without what a compiler puts around it.
std::string plain_name(const FunctionListing& f) {
  std::string_view source = f.signature;
  source.remove_prefix(std::min(source.find_first_not_of(' '), source.size()));
  std::string_view name = source.substr(0, source.find('('));
  return name.empty() ? f.name : std::string(name);
}

void add_names(Build& b) {
  for (const FunctionListing& f : b.functions) b.names.push_back(plain_name(f));
  b.times.resize(b.functions.size());
}

}  // namespace

size_t Build::find(std::string_view name) const {
  for (size_t k = 0; k < names.size(); ++k)
    if (names[k] == name || functions[k].name == name) return k;
  return ~size_t(0);
}

Result<Build> build(const Module& module, const BuildRecipe& recipe, const machine::Target& target,
                    BuildWants wants) {
  Build out{.name = recipe.name};
  auto copy = clone(module);
  if (recipe.permits) give_permits(*copy, recipe.permits);
  if (Diagnostics wrong = run_pipeline(*copy, recipe.pipeline); !wrong.empty()) return wrong;
  if (wants.run) {
    auto code = Jit::compile(*copy, target, recipe.options);
    if (code)
      out.code = std::move(*code);
    else
      out.no_run = code.why()[0].message;
  }
  auto list = [&](const machine::LoweredModule& lowered) {
    for (const auto& f : lowered.functions) {
      out.functions.push_back(wants.lines ? make_listing(lowered, f, target)
                                          : FunctionListing{.name = f.name, .totals = totals_of(f, target)});
      out.functions.back().signature.clear();
    }
  };
  if (!out.code) {
    auto lowered = machine::lower(std::move(copy), target, recipe.options);
    if (!lowered) return lowered.why();
    list(*lowered);
  } else {
    list(out.code->lowered());
  }
  for (const FunctionListing& f : out.functions) out.names.push_back(f.name);
  out.times.resize(out.functions.size());
  return out;
}

Build build_of(std::string name, const ReadObject& object, const machine::Target& target,
               const Resolver& externals, bool run) {
  Build out{.name = std::move(name)};
  out.is_object = true;
  out.functions = list_object(object, target).functions;
  add_names(out);
  if (!run) return out;
  auto loaded = LoadedObject::load(object.file, target, externals);
  if (loaded)
    out.object = std::move(*loaded);
  else
    out.no_run = loaded.why()[0].message;
  return out;
}

// ---- times ------------------------------------------------------------------------------------------------

namespace {

// One call in one build, ready to be run again and again.
struct Runner {
  Bridge bridge;
  void (*enter)(uint64_t*) = nullptr;
  PreparedCall call;
  std::vector<uint64_t> frame, arguments;

  void prepare() {
    for (MemoryPiece& p : call.pieces) p.reset();
    bridge.put_arguments(arguments, frame.data());
  }
  void run() { enter(frame.data()); }
};

Result<std::unique_ptr<Runner>> make_runner(const Build& build, const Module& module, const WrittenCall& call,
                                            const machine::Target& target) {
  const size_t row = build.find(call.function);
  const std::string name = row < build.functions.size() ? build.functions[row].name : call.function;
  void* address = build.code     ? build.code->address(name)
                  : build.object ? build.object->address(name)
                                 : nullptr;
  if (!address)
    return complaint(fmt::format("'{}' cannot be run in {}", call.function, build.name),
                     build.no_run.empty() ? "a build that has it" : build.no_run);
  auto prepared = prepare_call(module, call.function, call.words);
  if (!prepared) return prepared.why();
  auto out = std::make_unique<Runner>();
  out->call = std::move(*prepared);
  auto bridge = make_bridge(module.function(out->call.function).signature(), address, module.layout, target);
  if (!bridge) return bridge.why();
  out->bridge = std::move(*bridge);
  out->enter = reinterpret_cast<void (*)(uint64_t*)>(out->bridge.code->address("enter"));
  out->arguments = argument_words(out->call);
  out->frame.resize(out->bridge.argument_words + out->bridge.result_words);
  return out;
}

// What a run leaves: its results, and the memory that was handed in.
struct Left {
  std::vector<uint64_t> results;
  std::vector<std::vector<uint8_t>> pieces;
  bool operator==(const Left&) const = default;
};

// Runs it once, in a child, with which memory is shared.
std::optional<Left> results_of(Runner& runner) {
  SharedMemory shared(8 * (runner.frame.size() + 1));
  uint64_t* frame = reinterpret_cast<uint64_t*>(shared.bytes().data());
  auto times = time_in_turn({{.name = "once",
                              .prepare = [&] { runner.prepare(); },
                              .run =
                                  [&] {
                                    std::copy(runner.frame.begin(), runner.frame.end(), frame);
                                    runner.enter(frame);
                                  }}},
                            {.rounds = 1, .seconds = 0});
  if (!times[0].failed.empty()) return std::nullopt;
  Left out{runner.bridge.results(frame), {}};
  for (const MemoryPiece& p : runner.call.pieces) {
    auto bytes = p.memory->bytes();
    out.pieces.emplace_back(bytes.begin(), bytes.end());
  }
  return out;
}

}  // namespace

Diagnostics measure(std::vector<Build>& builds, const Module& module, const std::vector<WrittenCall>& calls,
                    const machine::Target& target, const TimingOptions& options) {
  Diagnostics out;
  for (const WrittenCall& call : calls) {
    std::vector<std::unique_ptr<Runner>> runners;
    std::vector<Contender> contenders;
    std::vector<size_t> of;  // by contender: its build
    std::optional<Left> meant;
    for (size_t k = 0; k < builds.size(); ++k) {
      auto runner = make_runner(builds[k], module, call, target);
      if (!runner) {
        out.insert(out.end(), runner.why().begin(), runner.why().end());
        continue;
      }
      auto results = results_of(**runner);
      if (!meant) meant = results;
      if (!results || results != meant) {
        out.push_back(complaint(
            fmt::format("in {}, '{}' {}", builds[k].name, call.text(),
                        results ? "gives other results than in " + builds[of.empty() ? 0 : of[0]].name
                                : "does not come to its end"),
            "the same results in every build; it is not timed"));
        continue;
      }
      Runner* one = runner->get();
      contenders.push_back(
          {.name = builds[k].name, .prepare = [one] { one->prepare(); }, .run = [one] { one->run(); }});
      of.push_back(k);
      runners.push_back(std::move(*runner));
    }
    auto times = time_in_turn(contenders, options);
    for (size_t k = 0; k < times.size(); ++k) {
      Build& b = builds[of[k]];
      const size_t row = b.find(call.function);
      if (!times[k].failed.empty()) {
        out.push_back(complaint(fmt::format("{}: {}", b.name, times[k].failed)));
      } else if (auto& sum = b.times[row]; sum) {
        sum->median += times[k].median, sum->spread += times[k].spread;
        sum->least += times[k].least, sum->cycles += times[k].cycles;
      } else {
        sum = times[k];
      }
    }
  }
  return out;
}

// ---- the table --------------------------------------------------------------------------------------------

bool ComparedFunction::everywhere() const {
  return std::all_of(totals.begin(), totals.end(), [](const auto& t) { return t.has_value(); });
}

std::optional<double> value_of(const ComparedFunction& f, size_t build, const Figure& figure) {
  if (figure.count) {
    if (!f.totals[build] || (figure.of_allocation && f.decoded[build])) return std::nullopt;
    return static_cast<double>((*f.totals[build]).*figure.count);
  }
  const auto& time = f.times[build];
  if (!time || (figure.name == "cycles" && time->cycles == 0)) return std::nullopt;
  return figure.name == "cycles" ? time->cycles : time->median;
}

Compared compare(const std::vector<Build>& builds, const Figure& by) {
  Compared out;
  out.sums.resize(builds.size());
  std::unordered_map<std::string, size_t> rows;
  auto row_of = [&](const std::string& name) -> ComparedFunction& {
    if (auto [at, first] = rows.try_emplace(name, out.functions.size()); !first)
      return out.functions[at->second];
    out.functions.push_back({.name = name});
    out.functions.back().totals.resize(builds.size());
    out.functions.back().times.resize(builds.size());
    out.functions.back().decoded.resize(builds.size());
    return out.functions.back();
  };
  for (size_t b = 0; b < builds.size(); ++b) {
    out.builds.push_back(builds[b].name);
    for (size_t k = 0; k < builds[b].functions.size(); ++k) {
      ComparedFunction& row = row_of(builds[b].names[k]);
      row.totals[b] = builds[b].functions[k].totals;
      row.times[b] = builds[b].times[k];
      row.decoded[b] = builds[b].is_object;
      out.timed |= builds[b].times[k].has_value();
    }
  }
  for (const ComparedFunction& f : out.functions)
    for (size_t b = 0; f.everywhere() && b < builds.size(); ++b)
      for (const Figure& figure : all_figures())
        if (figure.count) out.sums[b].*figure.count += (*f.totals[b]).*figure.count;
  for (ComparedFunction& f : out.functions) {
    double least = 1e300, most = 0;
    bool lacks = false;
    for (size_t b = 0; b < builds.size(); ++b) {
      auto v = value_of(f, b, by);
      lacks |= !f.totals[b];
      if (v) least = std::min(least, *v), most = std::max(most, *v);
    }
    f.change = lacks ? 1 : most > 0 ? (most - least) / most : 0;
  }
  std::stable_sort(out.functions.begin(), out.functions.end(),
                   [](const auto& a, const auto& b) { return a.change > b.change; });
  return out;
}

}  // namespace porphyry
