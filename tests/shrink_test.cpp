// Programs that are cut down: to what still shows a fault, the same on one thread and on several.
#include <gtest/gtest.h>

#include "porphyry/sample/reduce.h"
#include "porphyry/sample/sample.h"
#include "support/process.h"
#include "support/read.h"

namespace porphyry {
namespace {

bool has(const Module& m, Op op) {
  for (Symbol s : m.functions())
    for (Block b : m.function(s).blocks())
      for (Instruction i : m.function(s).instructions(b))
        if (m.function(s).op(i) == op) return true;
  return false;
}

TEST(Shrink, KeepsTheFaultAndLittleElse) {
  size_t shrunk = 0;
  for (uint64_t seed = 1; seed <= 40; ++seed) {
    Realm realm;
    auto module = std::move(make_sample(realm, {.seed = seed}).module);
    auto shows = [](const Module& m) { return has(m, Op::RotL); };
    if (!shows(*module)) continue;
    ++shrunk;
    std::vector<std::string> found;
    for (unsigned threads : {1u, 3u}) {
      auto small = reduce(*module, {}, shows, {.threads = threads});
      std::string text = reduce_text(write_text(*small), shows, {.threads = threads});
      EXPECT_TRUE(testing::problems_of(text).empty()) << text;
      Realm other;
      EXPECT_TRUE(shows(*testing::must_read(other, text)));
      found.push_back(text);
    }
    EXPECT_EQ(found[0], found[1]) << seed;
    EXPECT_LE(std::count(found[0].begin(), found[0].end(), '\n'), 8) << found[0];
  }
  EXPECT_GT(shrunk, 3u);
}

TEST(Shrink, TheToolAsksACommand) {
  testing::TemporaryFolder folder;
  const std::string tool = PORPHYRY_TOOL, demo = PORPHYRY_ROOT "/demo/frostwatch.por",
                    out = folder.file("small.por");
  auto ran = testing::run_command(tool + " shrink " + demo + " --test '" + tool +
                                  " lower {} -O2 | grep -q divsd' -o " + out + " 2>&1");
  ASSERT_EQ(ran.status, 0) << ran.out;
  std::string text = testing::contents(out);
  EXPECT_NE(text.find(" = div "), std::string::npos) << text;
  EXPECT_LE(std::count(text.begin(), text.end(), '\n'), 7) << text;
  EXPECT_NE(ran.out.find("still ends with 0"), std::string::npos) << ran.out;
  // What ends by itself, by a signal, and too late are told apart.
  auto slow = testing::run_command(tool + " shrink " + demo +
                                   " --time-limit 0.3 --test 'grep -q \"func seal\" {} && sleep 9' -o " +
                                   out + " 2>&1");
  EXPECT_EQ(slow.status, 0) << slow.out;
  EXPECT_NE(testing::contents(out).find("func seal"), std::string::npos);
  EXPECT_NE(slow.out.find("runs longer than it may"), std::string::npos) << slow.out;
  auto refused = testing::run_command(tool + " shrink " + demo + " --test 'true' 2>&1");
  EXPECT_EQ(refused.status, 2);
  EXPECT_NE(refused.out.find("does not name the file"), std::string::npos) << refused.out;
}

}  // namespace
}  // namespace porphyry
