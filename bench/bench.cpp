// Measures against the host compiler, in one run: compile time per function, and the demo kernels' time.
//
//   porphyry_bench TWINS_FOLDER INSTRUCTIONS     the folder holds twins-O0.so, twins-O1.so, twins-O2.so
//   (scripts/bench makes them)
#include <dlfcn.h>
#include <fmt/format.h>

#include <algorithm>
#include <chrono>
#include <cmath>
#include <cstring>
#include <functional>

#include "common.h"
#include "porphyry/analyze/verify.h"
#include "porphyry/call/call.h"
#include "porphyry/ir/clone.h"
#include "porphyry/jit/jit.h"
#include "porphyry/optimize/pipeline.h"
#include "porphyry/render/diagnostics.h"
#include "porphyry/render/listing.h"
#include "porphyry/targets/x64.h"
#include "porphyry/text/writer.h"

namespace porphyry::bench {

std::string generated_text(size_t count, size_t loops) {
  std::string out = "module generated\n";
  for (size_t k = 0; k < count; ++k) {
    out += fmt::format("\nfunc work{}(n: i32, seed: i32) -> i32 {{\nenter:\n  go loop0(0, seed)\n", k);
    for (size_t l = 0; l < loops; ++l)
      out += fmt::format(R"(
loop{0}(i{0}: i32, x{0}: i32):
  a{0} = mul x{0}, {1}
  b{0} = add a{0}, i{0}
  c{0} = rem.u b{0}, {2}
  d{0} = shl c{0}, {3}
  e{0} = shr.u b{0}, 5
  f{0} = xor d{0}, e{0}
  odd{0} = and f{0}, 1
  is_odd{0} = ne odd{0}, 0
  when is_odd{0} go up{0} else next{0}(f{0})

up{0}:
  g{0} = add f{0}, {1}
  go next{0}(g{0})

next{0}(y{0}: i32):
  j{0} = add i{0}, 1
  more{0} = lt.s j{0}, n
  when more{0} go loop{0}(j{0}, y{0}) else {4}
)",
                         l, 2 * k + 3, k + 17, k % 7 + 1,
                         l + 1 == loops ? std::string("out") : fmt::format("loop{0}(0, y{1})", l + 1, l));
    out += fmt::format("\nout:\n  return y{}\n}}\n", loops - 1);
  }
  return out;
}

}  // namespace porphyry::bench

namespace {

using namespace porphyry;
using namespace porphyry::bench;

// ---- compile time
// -------------------------------------------------------------------------------------------

std::string generated_cxx(size_t count) {
  std::string out = "#include <stdint.h>\nextern \"C\" {\n";
  for (size_t k = 0; k < count; ++k)
    out += fmt::format(
        "int32_t work{0}(int32_t n, int32_t seed) {{ uint32_t x = seed; for (int32_t i = 0;;) {{ uint32_t a "
        "= x * {1}u, b = a + i, c = b % {2}u, d = c << {3}, e = b >> 5, f = d ^ e; "
        "if (f & 1) f += {1}u; x = f; if (!(++i < n)) return x; }} }}\n",
        k, 2 * k + 3, k + 17, k % 7 + 1);
  return out + "}\n";
}

void compile_times(const std::string& folder) {
  constexpr size_t count = 500;
  std::string text = generated_text(count, 1);
  size_t instructions = 0;
  double read = 1e9, lowered = 1e9, optimized = 1e9, assembled = 1e9;
  for (int round = 0; round < 5; ++round) {
    Realm realm;
    std::unique_ptr<Module> module;
    read = std::min(
        read, seconds_of([&] { module = std::move(*load_text(realm, SourceText("generated", text))); }));
    auto copy = clone(*module);
    optimized = std::min(optimized, seconds_of([&] { run_pipeline(*copy, *level_pipeline("-O1")); }));
    std::optional<machine::LoweredModule> code;
    lowered =
        std::min(lowered, seconds_of([&] { code = std::move(*machine::lower(*module, targets::x64())); }));
    assembled = std::min(assembled, seconds_of([&] { render_assembly(*code, targets::x64()); }));
    instructions = 0;
    for (size_t k = 0; k < module->symbol_count(); ++k)
      for (Block b = module->function(Symbol(k)).entry(); b.exists(); b = module->function(Symbol(k)).next(b))
        for (Instruction i = module->function(Symbol(k)).first(b); i.exists();
             i = module->function(Symbol(k)).next(i))
          ++instructions;
  }
  std::string source = folder + "/generated.cpp";
  (void)write_file(source, generated_cxx(count));
  double host[3];
  for (int level = 0; level < 3; ++level)
    host[level] = seconds_of([&] {
      if (std::system(fmt::format("g++ -O{} -c {} -o {}/generated.o", level, source, folder).c_str()) != 0)
        std::exit(1);
    });
  auto row = [&](const char* what, double s) {
    fmt::print("  {:<38} {:>9.1f} {:>12.2f}\n", what, s / count * 1e6,
               s / static_cast<double>(instructions) * 1e6);
  };
  fmt::print(
      "Compile time, {} functions of {} instructions: a loop with a multiply, a remainder, shifts, a "
      "branch\n\n",
      count, instructions / count);
  fmt::print("  {:<38} {:>9} {:>12}\n", "", "us/func.", "us/instr.");
  row("text read and verified", read);
  row("-O1: promote, fold, sweep", optimized);
  row("lowered to machine code", lowered);
  row("written as assembly text", assembled);
  row("text to machine code", read + lowered);
  for (int level = 0; level < 3; ++level)
    row(fmt::format("host compiler -O{}, C++ to object", level).c_str(), host[level]);
  fmt::print("\n  text to machine code is {:.0f} times as fast as the host compiler at -O0\n\n",
             host[0] / (read + lowered));
}

// ---- kernels
// ------------------------------------------------------------------------------------------------

struct Data {
  std::vector<float> temps;
  std::vector<uint8_t> frame, out;
  std::vector<int32_t> counts;
  std::vector<float> smoothed;
  static constexpr int64_t repeat = 64;  // the night over and over, so that calls do not count

  explicit Data(const std::string& demo) : out(96 * repeat * 2), counts(16) {
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
    {"seal", "seal",
     [](void* p, Data& d) {
       return [f = as<int16_t(const uint8_t*, int64_t)>(p), &d] {
         sink = f(d.frame.data(), static_cast<int64_t>(d.frame.size()));
       };
     }},
};

void kernel_times(const std::string& folder) {
  std::string demo = PORPHYRY_ROOT "/demo";
  Data data(demo);
  Realm realm;
  auto text = read_file(demo + "/frostwatch.por");
  auto module = load_text(realm, SourceText("frostwatch.por", *text));
  auto optimized = clone(**module);
  run_pipeline(*optimized, *level_pipeline("-O1"));
  auto plain = Jit::compile(**module, targets::x64()), better = Jit::compile(*optimized, targets::x64());
  void* host[3];
  for (int level = 0; level < 3; ++level)
    host[level] = dlopen(fmt::format("{}/twins-O{}.so", folder, level).c_str(), RTLD_NOW);
  fmt::print(
      "The demo kernels on {} readings: nanoseconds a reading, and -O1 against the host compiler's "
      "levels\n\n",
      data.n());
  fmt::print("  {:<10} {:>8} {:>8}   {:>8} {:>8} {:>8}   {:>7} {:>7} {:>7}\n", "", "ours -O0", "ours -O1",
             "host -O0", "host -O1", "host -O2", "to -O0", "to -O1", "to -O2");
  double log_sum[3] = {0, 0, 0};
  for (const Kernel& k : kernels) {
    double per = 1e9 / static_cast<double>(data.n());
    double ours[2] = {least_seconds(k.bind((*plain)->address(k.name), data)) * per,
                      least_seconds(k.bind((*better)->address(k.name), data)) * per};
    double theirs[3], ratio[3];
    for (int level = 0; level < 3; ++level) {
      theirs[level] = least_seconds(k.bind(dlsym(host[level], k.host_name), data)) * per;
      ratio[level] = ours[1] / theirs[level];
      log_sum[level] += std::log(ratio[level]);
    }
    fmt::print("  {:<10} {:>8.2f} {:>8.2f}   {:>8.2f} {:>8.2f} {:>8.2f}   {:>7.2f} {:>7.2f} {:>7.2f}\n",
               k.name, ours[0], ours[1], theirs[0], theirs[1], theirs[2], ratio[0], ratio[1], ratio[2]);
  }
  double n = std::size(kernels);
  fmt::print("  {:<10} {:>55} {:>7.2f} {:>7.2f} {:>7.2f}\n", "mean", "geometric", std::exp(log_sum[0] / n),
             std::exp(log_sum[1] / n), std::exp(log_sum[2] / n));
}

}  // namespace

int main(int count, char** arguments) {
  if (count != 3) {
    fmt::print(stderr,
               "porphyry_bench is called with the folder of the twins and the most instructions; see "
               "scripts/bench\n");
    return 2;
  }
  language_costs(std::strtoul(arguments[2], nullptr, 10));
  compile_times(arguments[1]);
  kernel_times(arguments[1]);
}
