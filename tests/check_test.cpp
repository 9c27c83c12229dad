// Steps, what they changed, and faults that are planted in passes: each is found and named, sound ones are
// not.
#include <gtest/gtest.h>

#include <fstream>
#include <random>

#include "porphyry/ask/check.h"
#include "porphyry/ask/steps.h"
#include "porphyry/ir/clone.h"
#include "porphyry/passes/passes.h"
#include "porphyry/sample/sample.h"
#include "support/faults.h"
#include "support/measure.h"
#include "support/process.h"
#include "support/read.h"

namespace porphyry {
namespace {

using Lines = std::vector<std::string>;
using Side = DifferenceLine::Side;
using testing::Fault;
using testing::faults;
using testing::victim;

// The most lines that two texts can have in common, by the textbook's table.
size_t most_common(const Lines& a, const Lines& b) {
  std::vector<std::vector<size_t>> best(a.size() + 1, std::vector<size_t>(b.size() + 1));
  for (size_t i = 0; i < a.size(); ++i)
    for (size_t j = 0; j < b.size(); ++j)
      best[i + 1][j + 1] = a[i] == b[j] ? best[i][j] + 1 : std::max(best[i][j + 1], best[i + 1][j]);
  return best[a.size()][b.size()];
}

Lines side_of(const Difference& d, Side other) {
  Lines out;
  for (const DifferenceLine& l : d)
    if (l.side != other) out.push_back(l.text);
  return out;
}

TEST(Difference, TurnsOneTextIntoTheOtherWithFewestLines) {
  std::mt19937_64 random(5);
  for (int k = 0; k < 400; ++k) {
    Lines a, b;
    for (size_t n = random() % 20; n-- > 0;)
      a.push_back(std::string(1, static_cast<char>('a' + random() % 4)));
    for (size_t n = random() % 20; n-- > 0;)
      b.push_back(std::string(1, static_cast<char>('a' + random() % 4)));
    Difference d = difference(a, b);
    ASSERT_EQ(side_of(d, Side::Right), a);
    ASSERT_EQ(side_of(d, Side::Left), b);
    auto common = std::count_if(d.begin(), d.end(), [](const auto& l) { return l.side == Side::Both; });
    ASSERT_EQ(static_cast<size_t>(common), most_common(a, b)) << k;
    size_t differ = 0;  // hunks leave out nothing that differs
    for (const Difference& h : hunks(d, 1))
      for (const DifferenceLine& l : h) differ += l.side != Side::Both;
    ASSERT_EQ(differ, d.size() - static_cast<size_t>(common));
  }
}

// Applied one behind the other, the differences lead from the first text to the last one; the totals are
// those of the steps.
TEST(Steps, AddUpToTheWholeChange) {
  for (uint64_t seed = 1; seed <= 8; ++seed) {
    Realm realm;
    Sample program = make_sample(realm, {.seed = seed});
    StepQuestion all;
    auto stepped = clone(*program.module), plain = clone(*program.module);
    Pipeline pipeline = level_named("-O2")->pipeline();
    auto report = run_in_steps(*stepped, pipeline, {}, &all);
    ASSERT_TRUE(report.good());
    run_pipeline(*plain, pipeline);
    ASSERT_EQ(write_text(*stepped), write_text(*plain));
    std::map<std::string, Lines> now;
    for (const ChangedBy& c : report->changes) {
      auto [at, first] = now.try_emplace(c.function, side_of(c.lines, Side::Right));
      ASSERT_TRUE(first || at->second == side_of(c.lines, Side::Right)) << seed << " " << c.pass;
      at->second = side_of(c.lines, Side::Left);
    }
    size_t runs = 0;
    int64_t instructions = 0, by_step = 0;
    for (const PassTotal& t : report->totals) runs += t.runs, instructions += t.instructions;
    for (const StepRecord& s : report->steps)
      by_step += static_cast<int64_t>(s.instructions_after) - static_cast<int64_t>(s.instructions_before);
    EXPECT_EQ(runs, report->steps.size());
    EXPECT_EQ(instructions, by_step);
  }
}

// ---- planted faults ---------------------------------------------------------------------------------------

// Between sound passes, where what went before has changed the program already.
TEST(Check, NamesThePassWithAPlantedFault) {
  std::vector<Fault> all = faults();
  ASSERT_GE(all.size(), 40u);
  Realm realm;
  auto module = testing::must_read(realm, victim);
  for (const Fault& fault : all) {
    PassTable table = standard_passes();
    bool planted = false;
    ASSERT_TRUE(table
                    .add({.name = "spoiled",
                          .doc = fault.name,
                          .run =
                              [&](FunctionContext& c) {
                                if (!planted) planted = fault.plant(c.module, c.function);
                              }})
                    .empty());
    // The pass plants once a run; the report runs the pipeline a second time.
    size_t starts = 0;
    table.add({.name = "start", .doc = "", .run = [&](ModuleContext&) { planted = false, ++starts; }});
    auto pipeline = read_pipeline("start; tidy; spoiled; fold; number; sweep", table);
    ASSERT_TRUE(pipeline.good());
    auto report = check_passes(*module, *pipeline, {.inputs = {.count = 128, .attempts = 512}});
    ASSERT_TRUE(report.good());
    ASSERT_TRUE(report->wrong) << fault.name << " was not found";
    EXPECT_EQ(report->wrong->pass, "spoiled") << fault.name;
    EXPECT_FALSE(report->wrong->lines.empty()) << fault.name;
    // What it names does differ: the call gives one thing before and another one behind.
    planted = false;
    auto spoiled = clone(*module);
    run_pipeline(*spoiled, *read_pipeline("start; tidy; spoiled", table));
    const WrittenCall& call = report->wrong->call;
    EXPECT_NE(deviation(evaluate(*module, call), evaluate(*spoiled, call)), "") << fault.name;
  }
}

TEST(Check, ReportsNoSoundPass) {
  auto check = [](const Module& module, const char* level) {
    auto report = check_passes(module, level_named(level)->pipeline());
    ASSERT_TRUE(report.good());
    EXPECT_FALSE(report->wrong) << level << ": " << report->wrong->pass << " with "
                                << report->wrong->call.text() << ": " << report->wrong->deviation;
  };
  for (const char* file : {"frostwatch.por", "ledger.por", "night.por"})
    for (const char* level : {"-O1", "-O3", "-Os"}) {
      Realm realm;
      SourceText source(file, testing::contents(std::string(PORPHYRY_ROOT "/demo/") + file));
      auto module = load_text(realm, source);
      ASSERT_TRUE(module.good());
      check(**module, level);
    }
  for (uint64_t seed = 1; seed <= testing::part_of(16); ++seed) {
    Realm realm;
    check(*make_sample(realm, {.seed = seed, .lanes = 20}).module, seed % 2 ? "-O2" : "-O3");
  }
}

TEST(Inputs, RunToAnEndAndCanBeWrittenDown) {
  size_t calls = 0;
  for (uint64_t seed = 1; seed <= 10; ++seed) {
    Realm realm;
    auto module = std::move(make_sample(realm, {.seed = seed, .lanes = 30}).module);
    for (Symbol s : module->functions())
      for (const WrittenCall& call : make_calls(*module, s)) {
        ++calls;
        WrittenCall again = read_call(call.text());
        EXPECT_EQ(again.function, call.function);
        EXPECT_EQ(again.words, call.words);
        Seen seen = evaluate(*module, call);
        EXPECT_TRUE(seen.end == Outcome::End::Result || seen.end == Outcome::End::Trap) << seen.text();
      }
  }
  EXPECT_GT(calls, 100u);
}

}  // namespace
}  // namespace porphyry
