// Bytes of the demo kernels at -Os, beside the host compiler's.
#include <fmt/format.h>

#include <algorithm>
#include <cmath>
#include <map>

#include "common.h"
#include "porphyry/base/files.h"
#include "porphyry/formats/text.h"
#include "porphyry/machine/lower.h"
#include "porphyry/object/read.h"
#include "porphyry/passes/passes.h"
#include "porphyry/targets/targets.h"

namespace porphyry::bench {
namespace {

std::map<std::string, uint64_t> our_sizes() {
  std::map<std::string, uint64_t> out;
  const Level small = *level_named("-Os");
  Realm realm;
  for (const char* name : {"frostwatch.por", "ledger.por"}) {
    auto module = load_text(realm, SourceText(name, *read_file(std::string(PORPHYRY_ROOT "/demo/") + name)));
    run_pipeline(**module, small.pipeline());
    auto lowered = machine::lower(std::move(*module), *native_target(), machine::LowerOptions::at(small));
    for (const machine::CompiledFunction& f : lowered->functions) out[f.name] = f.bytes.size();
  }
  return out;
}

}  // namespace

void kernel_sizes(const std::string& folder) {
  const auto bytes = read_file(folder + "/twins-Os.o");
  if (!bytes) return;
  const auto object = read_object("twins-Os.o", *bytes);
  if (!object) return;
  // Where the twin has another name.
  const std::map<std::string, std::string> kernels{
      {"alarm_count", "alarm"}, {"clock_digits", "clock"}, {"frosts_in_lanes", "frosts"}, {"frosts", ""}};
  const auto ours = our_sizes();
  struct Row {
    std::string name;
    uint64_t ours, theirs;
    double ratio() const { return static_cast<double>(ours) / static_cast<double>(theirs); }
  };
  std::vector<Row> rows;
  for (const ObjectFile::Symbol& s : object->file.symbols) {
    if (!s.is_function || s.size == 0) continue;
    const auto other = kernels.find(s.name);
    const auto is = ours.find(other == kernels.end() ? s.name : other->second);
    if (is != ours.end()) rows.push_back({is->first, is->second, s.size});
  }
  if (rows.empty()) return;
  std::ranges::sort(rows, [](const Row& a, const Row& b) { return a.ratio() > b.ratio(); });
  fmt::print("\nBytes of the demo kernels at -Os, ours and the host's\n\n");
  Row all{"all", 0, 0};
  double logs = 0;
  for (const Row& r : rows) {
    fmt::print("  {:<10} {:>6} {:>6} {:>7.2f}\n", r.name, r.ours, r.theirs, r.ratio());
    all.ours += r.ours, all.theirs += r.theirs, logs += std::log(r.ratio());
  }
  fmt::print("  {:<10} {:>6} {:>6} {:>7.2f}\n  {:<10} {:>13} {:>7.2f}\n", all.name, all.ours, all.theirs,
             all.ratio(), "mean", "geometric", std::exp(logs / static_cast<double>(rows.size())));
}

}  // namespace porphyry::bench
