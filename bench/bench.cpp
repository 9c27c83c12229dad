// Measures against the host compiler, in one run: compile time per function, and the demo kernels' time.
//
//   porphyry_bench TWINS_FOLDER INSTRUCTIONS [PART]     the folder holds twins-O0.so, twins-O1.so,
//   twins-O2.so, twins-O2.o and twins-Os.o (scripts/bench makes them); the part is language, compile,
//   webassembly or kernels, all of them unless named
//
// Ends with 1 where a kernel is slower at our -O1 than at our -O0.
#include <dlfcn.h>
#include <fmt/format.h>

#include <algorithm>
#include <chrono>
#include <cmath>
#include <cstring>
#include <functional>

#include "behind.h"
#include "common.h"
#include "porphyry/analyze/verify.h"
#include "porphyry/base/files.h"
#include "porphyry/base/heap.h"
#include "porphyry/call/call.h"
#include "porphyry/formats/text.h"
#include "porphyry/ir/clone.h"
#include "porphyry/jit/jit.h"
#include "porphyry/object/read.h"
#include "porphyry/passes/passes.h"
#include "porphyry/print/print.h"
#include "porphyry/render/diagnostics.h"
#include "porphyry/render/listing.h"
#include "porphyry/targets/targets.h"

namespace {

using namespace porphyry;
using namespace porphyry::bench;

// ---- kernels
// ------------------------------------------------------------------------------------------------

struct Data {
  std::vector<float> temps;
  std::vector<uint8_t> frame, out;
  std::vector<int32_t> counts;
  std::vector<float> smoothed;
  std::vector<int32_t> numbers, table;   // to be put in order; one that rises
  static constexpr int64_t repeat = 64;  // the night over and over, so that calls do not count

  explicit Data(const std::string& demo) : out(96 * repeat * 2), counts(16), numbers(64) {
    for (int32_t k = 0; k < 512; ++k) table.push_back(9 * k + k % 5);
    auto t = read_numbers(demo + "/night.txt", Type::f32(), 2);
    auto f = read_numbers(demo + "/frame.txt", Type::integer(8), 0);
    for (int64_t k = 0; k < repeat; ++k) {
      size_t at = temps.size();
      temps.resize(at + t->size() / 4);
      std::memcpy(temps.data() + at, t->data(), t->size());
      frame.insert(frame.end(), f->begin(), f->end());
    }
    smoothed.resize(temps.size());
  }
  int64_t n() const { return static_cast<int64_t>(temps.size()); }
};

using Find = std::function<void*(const char*)>;
struct Kernel {
  const char* name;
  const char* host_name;
  std::function<std::function<void()>(void*, Data&)> bind;
};

volatile double sink;  // keeps what a kernel gave

template <class F>
auto as(void* p) {
  return reinterpret_cast<F*>(p);
}

const Kernel kernels[] = {
    {"unpack", "unpack",
     [](void* p, Data& d) {
       return [f = as<int64_t(const uint8_t*, uint8_t*, int64_t)>(p), &d] {
         sink = static_cast<double>(f(d.frame.data(), d.out.data(), d.n() / 2));
       };
     }},
    {"checksum", "checksum",
     [](void* p, Data& d) {
       return [f = as<int32_t(const uint8_t*, int64_t)>(p), &d] {
         sink = f(d.frame.data(), static_cast<int64_t>(d.frame.size()));
       };
     }},
    {"chill", "chill",
     [](void* p, Data& d) {
       return [f = as<float(const float*, int64_t, float, float)>(p), &d] {
         sink = f(d.temps.data(), d.n(), 2.5f, 10.0f);
       };
     }},
    {"coldest", "coldest",
     [](void* p, Data& d) {
       return [f = as<int64_t(const float*, int64_t)>(p), &d] {
         sink = static_cast<double>(f(d.temps.data(), d.n()));
       };
     }},
    {"alarm", "alarm_count",
     [](void* p, Data& d) {
       return [f = as<int32_t(const float*, int64_t, float, uint8_t*)>(p), &d] {
         sink = f(d.temps.data(), d.n(), 0.0f, d.out.data());
       };
     }},
    {"dew_point", "dew_point",
     [](void* p, Data& d) {
       return [f = as<double(double, double)>(p), &d] {
         for (float t : d.temps) sink = f(t, 81.0);
       };
     }},
    {"median", "median",
     [](void* p, Data& d) {
       return [f = as<int16_t(int16_t, int16_t, int16_t)>(p), &d] {
         for (int64_t k = 0; k < d.n(); ++k) sink = f(static_cast<int16_t>(k), 1187, 2047);
       };
     }},
    {"histogram", "histogram",
     [](void* p, Data& d) {
       return [f = as<void(const float*, int64_t, float, int32_t*, int32_t)>(p), &d] {
         f(d.temps.data(), d.n(), -5.0f, d.counts.data(), 16);
       };
     }},
    {"blend", "blend",
     [](void* p, Data& d) {
       return [f = as<float(const float*, const float*, int64_t, float, float*)>(p), &d] {
         sink = f(d.temps.data(), d.temps.data(), d.n(), 0.25f, d.smoothed.data());
       };
     }},
    {"smooth", "smooth",
     [](void* p, Data& d) {
       return [f = as<void(const float*, int64_t, float*)>(p), &d] {
         f(d.temps.data(), d.n(), d.smoothed.data());
       };
     }},
    {"crossings", "crossings",
     [](void* p, Data& d) {
       return [f = as<int64_t(const float*, int64_t, float, int32_t*, int64_t)>(p), &d] {
         sink = static_cast<double>(f(d.temps.data(), d.n(), 0.0f, d.counts.data(), 8));
       };
     }},
    {"route", "route",
     [](void* p, Data& d) {
       return [f = as<int32_t(int32_t, int32_t)>(p), &d] {
         for (int64_t k = 0; k < d.n(); ++k) sink = f(static_cast<int32_t>(k % 12), 12);
       };
     }},
    {"between", "between",
     [](void* p, Data& d) {
       return [f = as<float(const float*, int64_t, float)>(p), &d] {
         for (int64_t k = 1; k + 2 < d.n(); ++k) sink = f(d.temps.data(), k, 0.333f);
       };
     }},
    {"trend", "trend",
     [](void* p, Data& d) {
       return
           [f = as<double(const float*, int64_t, double)>(p), &d] { sink = f(d.temps.data(), d.n(), 10.0); };
     }},
    {"longest", "longest",
     [](void* p, Data& d) {
       return [f = as<int64_t(const float*, int64_t, float)>(p), &d] {
         sink = static_cast<double>(f(d.temps.data(), d.n(), 0.0f));
       };
     }},
    {"frosts", "frosts",
     [](void* p, Data& d) {
       return [f = as<int64_t(const float*, int64_t, float)>(p), &d] {
         sink = static_cast<double>(f(d.temps.data(), d.n(), 0.0f));
       };
     }},
    {"seal", "seal",
     [](void* p, Data& d) {
       return [f = as<int16_t(const uint8_t*, int64_t)>(p), &d] {
         sink = f(d.frame.data(), static_cast<int64_t>(d.frame.size()));
       };
     }},
    {"ways", "ways",
     [](void* p, Data&) { return [f = as<int32_t(int32_t, int32_t)>(p)] { sink = f(6, 7); }; }},
    {"crates", "crates",
     [](void* p, Data& d) {
       return [f = as<int32_t(int32_t)>(p), &d] {
         for (int64_t k = 0; k < d.n(); ++k) sink = f(static_cast<int32_t>(k));
       };
     }},
    {"shade", "shade",
     [](void* p, Data& d) {
       return [f = as<int64_t(const uint8_t*, int64_t, int64_t)>(p), &d] {
         sink = static_cast<double>(f(d.frame.data(), static_cast<int64_t>(d.frame.size()) / 48, 48));
       };
     }},
    {"replay", "replay",
     [](void* p, Data& d) {
       return [f = as<int32_t(const uint8_t*, int64_t)>(p), &d] {
         sink = f(d.frame.data(), static_cast<int64_t>(d.frame.size()));
       };
     }},
    {"clock", "clock_digits",
     [](void* p, Data& d) {
       return [f = as<int64_t(int64_t)>(p), &d] {
         for (int64_t k = 0; k < d.n(); ++k) sink = static_cast<double>(f(977 * k));
       };
     }},
    {"posts", "posts",
     [](void* p, Data& d) {
       return [f = as<int64_t(const void*, const void*, int64_t)>(p), &d] {
         sink = static_cast<double>(
             f(d.frame.data(), d.frame.data() + 72, (static_cast<int64_t>(d.frame.size()) - 72) / 8));
       };
     }},
    {"words", "words",
     [](void* p, Data& d) {
       return [f = as<int32_t(const uint8_t*, int64_t)>(p), &d] {
         sink = f(d.frame.data(), static_cast<int64_t>(d.frame.size()));
       };
     }},
    {"arrange", "arrange",
     [](void* p, Data& d) {
       return [f = as<int64_t(int32_t*, int64_t)>(p), &d] {
         for (int32_t k = 0; k < 64; ++k) d.numbers[static_cast<size_t>(k)] = (k * 7919) % 1009;
         sink = static_cast<double>(f(d.numbers.data(), 64));
       };
     }},
    {"place", "place",
     [](void* p, Data& d) {
       return [f = as<int64_t(const int32_t*, int64_t, int32_t)>(p), &d] {
         for (int32_t k = 0; k < 1000; ++k)
           sink = static_cast<double>(f(d.table.data(), 512, (k * 7919) % 5000));
       };
     }},
};

// The usual ones, and what the buffer asks for memory.
void* allocates_too(std::string_view name) {
  if (name == "malloc") return reinterpret_cast<void*>(&std::malloc);
  if (name == "free") return reinterpret_cast<void*>(&std::free);
  return usual_externals(name);
}

// What the listings say of kernels that are behind.
constexpr double is_behind = 1.1;

void tell_why(const std::vector<std::pair<const Kernel*, double>>& behind,
              std::span<const std::unique_ptr<Jit>> jits, const std::string& folder) {
  const auto bytes = read_file(folder + "/twins-O2.o");
  if (behind.empty() || !bytes) return;
  const auto object = read_object("twins-O2.o", *bytes);
  if (!object) return;
  const ObjectListing host = list_object(*object, *native_target());
  fmt::print("\nWhere -O2 is behind by more than a tenth, what both do:\n");
  for (auto [kernel, ratio] : behind) {
    const machine::FunctionListing* theirs = nullptr;
    for (const machine::FunctionListing& f : host.functions)
      if (f.name == kernel->host_name) theirs = &f;
    for (const auto& jit : jits)
      for (const machine::CompiledFunction& f : jit->lowered().functions)
        if (theirs && f.name == kernel->name)
          fmt::print(
              "  {:<10} {:>5.2f}   {}\n", kernel->name, ratio,
              bench::counted_beside(machine::make_listing(jit->lowered(), f, *native_target()), *theirs));
  }
}

// Clocks are this much apart on code that is the same to the byte.
constexpr double clock_noise = 1.06;

// The kernels that are slower at a level than at the one below.
std::vector<std::string> kernel_times(const std::string& folder) {
  std::string demo = PORPHYRY_ROOT "/demo";
  Data data(demo);
  Realm realm;
  constexpr size_t levels = 3;
  std::vector<std::unique_ptr<Jit>> jits[levels];
  for (const char* file : {"/frostwatch.por", "/ledger.por"}) {
    auto module = load_text(realm, SourceText(file, *read_file(demo + file)));
    for (size_t level = 0; level < levels; ++level) {
      auto is = level_named(fmt::format("-O{}", level));
      auto optimized = clone(**module);
      run_pipeline(*optimized, is->pipeline());
      auto jit = Jit::compile(*optimized, *native_target(), machine::LowerOptions::at(*is), allocates_too);
      jits[level].push_back(std::move(*jit));
    }
  }
  auto ours_at = [&](size_t level, const char* name) {
    void* first = jits[level][0]->address(name);
    return first ? first : jits[level][1]->address(name);
  };
  void* host[levels];
  for (size_t level = 0; level < levels; ++level)
    host[level] = dlopen(fmt::format("{}/twins-O{}.so", folder, level).c_str(), RTLD_NOW);
  fmt::print(
      "The demo kernels on {} readings: nanoseconds a reading, and each level against the host compiler's "
      "(-O2 without its vectorizer)\n\n  {:<10} {:>26}   {:>26}   {:>23}\n  {:<10}",
      data.n(), "", "ours", "the host's", "ours to the host's", "");
  for (size_t k = 0; k < 3 * levels; ++k)
    fmt::print("{} {:>{}}", k && k % levels == 0 ? "  " : "", fmt::format("-O{}", k % levels),
               k < 2 * levels ? 8 : 7);
  fmt::print("\n");
  double log_sum[levels] = {};
  std::vector<std::string> slower;
  std::vector<std::pair<const Kernel*, double>> behind;
  for (const Kernel& k : kernels) {
    double per = 1e9 / static_cast<double>(data.n());
    // All in turn, again and again: a machine has better and worse seconds, and each gets its share of them.
    double ours[levels], theirs[levels];
    std::fill_n(ours, levels, 1e9), std::fill_n(theirs, levels, 1e9);
    auto measure = [&](double& best, void* code) {
      best = std::min(best, least_seconds(k.bind(code, data), 0.02) * per);
    };
    for (int round = 0; round < 12; ++round)
      for (size_t level = 0; level < levels; ++level) {
        measure(ours[level], ours_at(level, k.name));
        measure(theirs[level], dlsym(host[level], k.host_name));
      }
    for (size_t level = 1; level < levels; ++level)
      if (ours[level] > ours[level - 1] * clock_noise)
        slower.push_back(fmt::format("{} at -O{}", k.name, level));
    if (ours[levels - 1] > theirs[levels - 1] * is_behind)
      behind.push_back({&k, ours[levels - 1] / theirs[levels - 1]});
    fmt::print("  {:<10}", k.name);
    for (double t : ours) fmt::print(" {:>8.2f}", t);
    fmt::print("  ");
    for (double t : theirs) fmt::print(" {:>8.2f}", t);
    fmt::print("  ");
    for (size_t level = 0; level < levels; ++level) {
      log_sum[level] += std::log(ours[level] / theirs[level]);
      fmt::print(" {:>7.2f}", ours[level] / theirs[level]);
    }
    fmt::print("\n");
  }
  fmt::print("  {:<10} {:>55}  ", "mean", "geometric");
  for (double sum : log_sum) fmt::print(" {:>7.2f}", std::exp(sum / static_cast<double>(std::size(kernels))));
  fmt::print("\n");
  tell_why(behind, jits[levels - 1], folder);
  return slower;
}

}  // namespace

int main(int count, char** arguments) {
  if (count != 3 && count != 4) {
    fmt::print(
        stderr,
        "porphyry_bench is called with the folder of the twins, the most instructions and perhaps a part; "
        "see scripts/bench\n");
    return 2;
  }
  keep_freed_memory();  // as the tool does
  std::string part = count == 4 ? arguments[3] : "";
  if (part.empty() || part == "language") language_costs(std::strtoul(arguments[2], nullptr, 10));
  if (part.empty() || part == "compile") compile_costs(arguments[1]);
  if (part.empty() || part == "webassembly") webassembly_costs();
  if (!part.empty() && part != "kernels") return 0;
  std::vector<std::string> slower = kernel_times(arguments[1]);
  kernel_sizes(arguments[1]);
  for (const std::string& name : slower) fmt::print(stderr, "{} is slower than at the level below\n", name);
  return slower.empty() ? 0 : 1;
}
