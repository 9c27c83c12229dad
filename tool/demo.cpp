// The tour on the shipped night: every kernel by the evaluator and on the processor, then one listing.
#include <fmt/format.h>

#include <algorithm>
#include <chrono>
#include <filesystem>

#include "common.h"
#include "porphyry/base/files.h"
#include "porphyry/call/tour.h"
#include "porphyry/formats/text.h"
#include "porphyry/render/listing.h"

namespace porphyry::tool {
namespace {

constexpr const char* demo_level = "-O2";

// Beside an installed tool, else where it was built from.
std::string demo_folder() {
  namespace fs = std::filesystem;
  std::error_code none;
  fs::path beside = fs::read_symlink("/proc/self/exe", none).parent_path() / "../share/porphyry/demo";
  return fs::exists(beside, none) ? beside.lexically_normal().string() : PORPHYRY_DEMO_FOLDER;
}

struct Toured {
  std::unique_ptr<Loaded> module;
  std::unique_ptr<Jit> jit;
  std::vector<TourStop> stops;
};
Toured tour_of(const Options& given, const std::string& file, const std::string& calls) {
  Options o = given;
  o.file = o.folder + "/" + file;
  Toured out;
  out.module = load_optimized(o, demo_level);
  const machine::Target& target = target_of(o);
  std::string path = o.folder + "/" + calls;
  auto text = read_file(path);
  if (!text) fail(text.why(), input_at_fault);
  auto jit = Jit::compile(*out.module->module, target);
  if (!jit) fail(jit.why(), input_at_fault);
  out.jit = std::move(*jit);
  auto stops = run_tour(*out.module->module, *out.jit, target, SourceText(path, *text), o.folder);
  if (!stops) fail(stops.why(), input_at_fault);
  out.stops = std::move(*stops);
  return out;
}

}  // namespace

int verb_demo(const Options& given) {
  return guarded([&] {
    auto start = std::chrono::steady_clock::now();
    Options o = given;
    if (o.folder.empty()) o.folder = demo_folder();
    Toured tours[] = {tour_of(o, "frostwatch.por", "tour.txt"), tour_of(o, "ledger.por", "ledger.txt")};

    size_t widest = 0, widest_answer = 0, differ = 0, kernels = 0;
    for (const Toured& t : tours)
      for (const TourStop& s : t.stops)
        widest = std::max(widest, s.question.size()),
        widest_answer = std::max(widest_answer, s.answer.size());
    std::string told = fmt::format(
        "Frost watch: one night of post 7, 96 readings, and the orchard's ledger, at {}\n\n", demo_level);
    for (const Toured& t : tours)
      for (const TourStop& s : t.stops) {
        std::string verdict = s.agree
                                  ? "evaluator and processor agree"
                                  : "DIFFERENT on the processor: " +
                                        (s.native.results.empty() ? s.native.message : s.native.results[0]);
        told += fmt::format("  {:<{}}  {:>{}}   {}\n", s.question, widest, s.answer, widest_answer, verdict);
        differ += !s.agree, ++kernels;
      }
    for (const auto& f : tours[0].jit->lowered().functions)
      if (f.name == "coldest")
        told += fmt::format(
            "\nThe machine code of one kernel, each line with what it came from:\n\n{}",
            render(machine::make_listing(tours[0].jit->lowered(), f, target_of(o)), in_colour(o)));
    double seconds = std::chrono::duration<double>(std::chrono::steady_clock::now() - start).count();
    told += fmt::format("\n{} kernels, {} of them the same on both, in {:.2f} seconds\n", kernels,
                        kernels - differ, seconds);
    put_out(o, told);
    if (differ) throw Failure{input_at_fault, {}};
  });
}

}  // namespace porphyry::tool
