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

// Beside an installed tool, else where it was built from.
std::string demo_folder() {
  namespace fs = std::filesystem;
  std::error_code none;
  fs::path beside = fs::read_symlink("/proc/self/exe", none).parent_path() / "../share/porphyry/demo";
  return fs::exists(beside, none) ? beside.lexically_normal().string() : PORPHYRY_DEMO_FOLDER;
}

}  // namespace

int verb_demo(const Options& given) {
  return guarded([&] {
    auto start = std::chrono::steady_clock::now();
    Options o = given;
    if (o.folder.empty()) o.folder = demo_folder();
    o.file = o.folder + "/frostwatch.por";
    auto loaded = load_optimized(o, "-O1");
    auto tour = read_file(o.folder + "/tour.txt");
    if (!tour) fail(tour.why(), input_at_fault);
    const machine::Target& target = target_of(o);
    auto jit = Jit::compile(*loaded->module, target);
    if (!jit) fail(jit.why(), input_at_fault);
    auto stops =
        run_tour(*loaded->module, **jit, target, SourceText(o.folder + "/tour.txt", *tour), o.folder);
    if (!stops) fail(stops.why(), input_at_fault);

    size_t widest = 0, widest_answer = 0, differ = 0;
    for (const TourStop& s : *stops)
      widest = std::max(widest, s.question.size()), widest_answer = std::max(widest_answer, s.answer.size());
    std::string told = fmt::format("Frost watch: one night of post 7, 96 readings, at -O1\n\n");
    for (const TourStop& s : *stops) {
      std::string verdict = s.agree ? "evaluator and processor agree"
                                    : "DIFFERENT on the processor: " +
                                          (s.native.results.empty() ? s.native.message : s.native.results[0]);
      told += fmt::format("  {:<{}}  {:>{}}   {}\n", s.question, widest, s.answer, widest_answer, verdict);
      differ += !s.agree;
    }
    for (const auto& f : (*jit)->lowered().functions)
      if (f.name == "coldest")
        told += fmt::format(
            "\nThe machine code of one kernel, each line with what it came from:\n\n{}",
            render(machine::make_listing((*jit)->lowered(), f, target), on_terminal() && !o.no_colour));
    double seconds = std::chrono::duration<double>(std::chrono::steady_clock::now() - start).count();
    told += fmt::format("\n{} kernels, {} of them the same on both, in {:.2f} seconds\n", stops->size(),
                        stops->size() - differ, seconds);
    put_out(o, told);
    if (differ) throw Failure{input_at_fault, {}};
  });
}

}  // namespace porphyry::tool
