// Generated programs of the whole language: valid, without a fault, alike for all open choices, and the same
// after a walk through the text form, the packed form, a copy and another realm.
#include "porphyry/sample/sample.h"
#include "porphyry/formats/text.h"

#include <fmt/format.h>
#include <gtest/gtest.h>

#include <cstdlib>

#include "porphyry/analyze/verify.h"
#include "porphyry/eval/evaluator.h"
#include "porphyry/formats/packed.h"
#include "porphyry/ir/clone.h"
#include "porphyry/passes/passes.h"
#include "porphyry/print/print.h"
#include "porphyry/render/diagnostics.h"
#include "support/measure.h"

namespace porphyry {
namespace {

// A run's end and all that it left behind, as text.
std::string observed(const Module& module, const Sample& program, uint64_t seed) {
  auto piece = Sample::fresh_piece();
  Evaluator e(module, {.seed = seed, .step_limit = 300000});
  std::vector<Datum> arguments{e.attach(piece, "piece")};
  const Signature& signature = module.function(program.main).signature();
  size_t at = 0;
  for (size_t k = 1; k < signature.parameters.size(); ++k) {
    Type t = signature.parameters[k];
    for (unsigned lane = 0; lane < t.lanes(); ++lane) {
      Datum d{program.arguments[at++], 0};
      if (t.words_per_lane() == 2) d.high = program.arguments[at++];
      arguments.push_back(d);
    }
  }
  Outcome run = e.call(program.main, arguments);
  std::string out = end_text(run.end) + " " + (run.end == Outcome::End::Fault ? run.message : "");
  if (run.end != Outcome::End::Result) return out;
  for (Datum d : run.results) out += fmt::format(" {:x}:{:x}", d.high, d.bits);
  for (uint8_t b : piece) out += fmt::format("{:02x}", b);
  for (uint8_t b : e.data(program.store)) out += fmt::format("{:02x}", b);
  return out;
}

TEST(Samples, AreValidAndMeanTheSameInEveryForm) {
  const char* n = std::getenv("PORPHYRY_PROGRAMS");
  const char* start = std::getenv("PORPHYRY_FIRST_SEED");
  uint64_t count = n ? std::strtoull(n, nullptr, 10) : testing::part_of(1500),
           first = start ? std::strtoull(start, nullptr, 10) : 1;
  SampleCoverage coverage;
  uint64_t results = 0, exhausted = 0;
  for (uint64_t seed = first; seed < first + count; ++seed) {
    Realm realm;
    Sample program = make_sample(realm, {.seed = seed});
    const Module& module = *program.module;
    coverage.add(module);
    Diagnostics wrong = verify(module);
    ASSERT_TRUE(wrong.empty()) << "seed " << seed << "\n" << render(wrong);
    std::string text = write_text(module);
    Realm other;
    SourceText source("sample.por", text);
    auto read = load_text(other, source);
    ASSERT_TRUE(read.good()) << "seed " << seed << "\n" << render(read.why());
    ASSERT_EQ(write_text(**read), text) << "seed " << seed;
    std::string packed = write_packed(**read);
    Realm third;
    auto unpacked = load_packed(third, "sample.porb", packed);
    ASSERT_TRUE(unpacked.good()) << "seed " << seed << "\n" << render(unpacked.why());
    ASSERT_EQ(write_text(**unpacked), text) << "seed " << seed;
    ASSERT_EQ(write_packed(**unpacked), packed) << "seed " << seed;

    std::string meant = observed(module, program, 1);
    ASSERT_FALSE(meant.starts_with("a fault")) << "seed " << seed << ": " << meant << "\n" << text;
    results += meant.starts_with("a result");
    exhausted += meant.starts_with("an exhausted");
    ASSERT_EQ(observed(**unpacked, program, 1), meant) << "seed " << seed;
    ASSERT_EQ(observed(*clone(module), program, 2), meant) << "seed " << seed << "\n" << text;
    if (meant.starts_with("an exhausted")) continue;  // passes take fewer steps
    auto optimized = clone(module);
    Diagnostics broken = run_pipeline(*optimized, level_named("-O1")->pipeline(), {.check_between = true});
    ASSERT_TRUE(broken.empty()) << "seed " << seed << "\n" << render(broken);
    ASSERT_EQ(observed(*optimized, program, 2), meant) << "seed " << seed << ", -O1\n"
                                                       << text << "\nbecame\n"
                                                       << write_text(*optimized);
  }
  // The generator would be useless if most programs ended early, or if operations never came up.
  EXPECT_GT(results * 10, count * 7);
  std::string missing;
  for (Op op : coverage.missing()) missing += " " + std::string(info(op).name);
  if (count >= 1000) {
    EXPECT_EQ(coverage.share(), 1.0) << missing;
  }
  std::printf("%llu programs, %llu instructions, %llu results, %llu exhausted\n",
              static_cast<unsigned long long>(coverage.programs),
              static_cast<unsigned long long>(coverage.instructions),
              static_cast<unsigned long long>(results), static_cast<unsigned long long>(exhausted));
}

TEST(Samples, AreTheSameForTheSameSeed) {
  for (uint64_t seed : {5u, 6u, 7u}) {
    Realm a, b;
    EXPECT_EQ(write_text(*make_sample(a, {.seed = seed}).module),
              write_text(*make_sample(b, {.seed = seed}).module));
  }
}

}  // namespace
}  // namespace porphyry
