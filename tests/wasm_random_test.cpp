// Random modules: the evaluator, the processor with and without guards and at each level agree on results,
// traps, globals and every byte of memory.
#include <fmt/format.h>

#include <cmath>

#include "porphyry/base/hash.h"
#include "support/measure.h"
#include "support/wasm_random.h"
#include "support/wasm_run.h"

namespace porphyry {
namespace {

using namespace testing;

// What calls of all functions leave behind, as text.
std::string behaviour(wasm::Instance& instance) {
  std::string out;
  for (const wasm::Export& e : instance.program().exports) {
    if (e.kind != wasm::Kind::Function) continue;
    for (uint64_t k = 0; k < 2; ++k) {
      const Datum given[] = {{k * 3 + 1}, {k ? ~uint64_t(0) : 5}, wasm::to_datum(k ? -0.25 : 1e9)};
      wasm::CallResult run = instance.call_function(e.index, given);
      if (run.results.size() > 1 && std::isnan(std::bit_cast<double>(run.results[1].bits)))
        run.results[1].bits = 1;
      out += e.name + ": " + outcome(run) + "\n";
      // What was stored before a trap stays; a run that was ended by its host says nothing.
      if (run.end == wasm::CallResult::End::Unfinished) return out;
    }
  }
  std::span<uint8_t> memory = instance.memory();
  std::string_view bytes(reinterpret_cast<const char*>(memory.data()), memory.size());
  out += fmt::format("global {:x}, {} bytes", instance.global("g")->bits, memory.size());
  out += fmt::format(" {:x}", hash_of(bytes));
  return out;
}

uint64_t setting(const char* name, uint64_t otherwise) {
  const char* is = std::getenv(name);
  return is ? std::strtoull(is, nullptr, 10) : otherwise;
}

TEST(WasmRandom, AllEnginesAgree) {
  uint64_t first = setting("PORPHYRY_SEED", 1), count = setting("PORPHYRY_PROGRAMS", testing::part_of(300));
  size_t trapped = 0;
  for (uint64_t seed = first; seed < first + count && !HasFailure(); ++seed) {
    const std::string bytes = WasmSample(seed).make();
    std::string should;
    for (const Engine& e : engines) {
      auto instance = instance_of(e, bytes);
      ASSERT_TRUE(instance.good()) << "seed " << seed << " " << e.name << render(instance.why());
      std::string is = behaviour(**instance);
      if (should.empty()) should = is, trapped += is.find("trap") != is.npos;
      EXPECT_EQ(is, should) << "seed " << seed << " " << e.name;
    }
  }
  std::printf("%zu of %zu trapped\n", trapped, static_cast<size_t>(count));
}

}  // namespace
}  // namespace porphyry
