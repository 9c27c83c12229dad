// Searches: never worse than the levels, the same on one thread and on several, going on where they stopped,
// right.
#include <gtest/gtest.h>

#include "porphyry/ask/hunt.h"
#include "porphyry/passes/passes.h"
#include "porphyry/targets/targets.h"
#include "support/json.h"
#include "support/process.h"
#include "support/read.h"

namespace porphyry {
namespace {

std::unique_ptr<Module> ledger(Realm& realm) {
  SourceText source("ledger.por", testing::contents(PORPHYRY_ROOT "/demo/ledger.por"));
  auto module = load_text(realm, source);
  EXPECT_TRUE(module.good());
  return std::move(*module);
}

HuntState hunted(const Module& module, HuntQuestion question, HuntState state, unsigned generations) {
  auto hunt = Hunt::make(module, question, *native_target());
  EXPECT_TRUE(hunt.good());
  for (unsigned k = 0; k < generations; ++k) EXPECT_TRUE((*hunt)->next_generation(state));
  return state;
}

TEST(Hunt, IsTheSameHoweverItIsDone) {
  Realm realm;
  auto module = ledger(realm);
  HuntQuestion one{.function = "replay", .children = 8, .threads = 1}, three = one;
  three.threads = 3;
  const HuntState whole = hunted(*module, one, {.seed = 7}, 6);
  EXPECT_EQ(write_state(hunted(*module, three, {.seed = 7}, 6)), write_state(whole));
  // Stopped, written, read and gone on with.
  const HuntState half = hunted(*module, three, {.seed = 7}, 3);
  auto again = read_state("state", write_state(half));
  ASSERT_TRUE(again.good());
  EXPECT_EQ(write_state(hunted(*module, one, *again, 3)), write_state(whole));
  // A cancelled generation leaves the state as it was.
  HuntState state = half;
  three.cancelled = [] { return true; };
  EXPECT_FALSE((*Hunt::make(*module, three, *native_target()))->next_generation(state));
  EXPECT_EQ(write_state(state), write_state(half));
}

TEST(Hunt, FindsNothingWorseThanTheLevelsAndEachStepMatters) {
  Realm realm;
  auto module = ledger(realm);
  const HuntQuestion question{.function = "shade"};
  const HuntState state = hunted(*module, question, {.seed = 3}, 4);
  const Recipe recipe = (*Hunt::make(*module, question, *native_target()))->best(state);
  for (const auto& [level, cost] : recipe.levels) EXPECT_LE(recipe.pipeline.cost, cost) << level;
  ASSERT_EQ(recipe.without.size(), recipe.pipeline.steps.size());
  for (double without : recipe.without) EXPECT_GT(without, recipe.pipeline.cost);
  // The recipe is a pipeline that gives what it says, and means the same.
  run_pipeline(*module, *read_pipeline(recipe.pipeline.text()));
  EXPECT_TRUE(verify(*module).empty());
  auto lowered = machine::lower(*module, *native_target(), question.options);
  for (const auto& f : lowered->functions)
    EXPECT_TRUE(f.name != "shade" ||
                static_cast<double>(f.bytes.size() + 16 * f.pool.size()) == recipe.pipeline.cost);
}

TEST(Hunt, TheToolStopsGoesOnAndRefuses) {
  testing::TemporaryFolder folder;
  const std::string tool = PORPHYRY_TOOL " hunt " PORPHYRY_ROOT "/demo/ledger.por ",
                    state = folder.file("state.json");
  auto ran = [&](const std::string& words) { return testing::run_command(tool + words + " 2>&1"); };
  const std::string first = testing::checked_part > 1 ? " --rounds 1" : " --rounds 2",
                    all = testing::checked_part > 1 ? " --rounds 2" : " --rounds 4";
  auto whole = testing::read_json(ran("--function clock --seed 5 --json" + all).out);
  ran("--function clock --seed 5 --state " + state + first);
  auto rest = testing::read_json(ran("--function clock --seed 5 --json --state " + state + all).out);
  EXPECT_EQ(whole["pipeline"], rest["pipeline"]);
  EXPECT_EQ(whole["built"], rest["built"]);
  EXPECT_NE(ran("--function clock --for time --call 'clock 7777'" + first).out.find("without it, ns"),
            std::string::npos);
  EXPECT_EQ(ran("--for time --rounds 1").status, 2);
  EXPECT_EQ(ran("--for beauty").status, 2);
  EXPECT_EQ(testing::run_command(PORPHYRY_TOOL " hunt " PORPHYRY_ROOT "/demo/night.por --rounds 9 --state " +
                                 state + " 2>&1")
                .status,
            1);
  EXPECT_EQ(ran("--rounds 9 --state " + folder.write("none.json", "{}")).status, 1);
}

TEST(Manual, NamesEveryVerbAndOption) {
  const std::string man = testing::run_command(PORPHYRY_TOOL " manual").out;
  std::map<std::string, std::string> shells;
  for (const char* shell : {"bash", "zsh", "fish"})
    shells[shell] = testing::run_command(PORPHYRY_TOOL " manual --as " + std::string(shell)).out;
  std::istringstream help(testing::run_command(PORPHYRY_TOOL " --help").out);
  size_t options = 0, verbs = 0;
  bool inside = false;
  for (std::string line; std::getline(help, line);) {
    if (line.starts_with("verbs")) inside = true;
    std::istringstream words(line);
    std::string verb;
    if (!inside || !line.starts_with("  ") || line.starts_with("   ") || !(words >> verb)) continue;
    ++verbs;
    std::string roff = verb;
    for (size_t at = 0; (at = roff.find('-', at)) != roff.npos; at += 2) roff.insert(at, "\\");
    EXPECT_NE(man.find(".SS " + roff), std::string::npos) << verb;
    std::istringstream of_verb(testing::run_command(PORPHYRY_TOOL " " + verb + " --help").out);
    for (std::string option; std::getline(of_verb, option);) {
      if (!option.starts_with("  -")) continue;
      std::string name = option.substr(2, option.find_first_of(" ,", 2) - 2);
      ++options;
      for (const auto& [shell, script] : shells) {
        const std::string plain = shell == "fish" ? name.substr(name.find_first_not_of('-')) : name;
        EXPECT_NE(script.find(plain), std::string::npos) << shell << ": " << verb << " " << name;
      }
    }
  }
  EXPECT_GT(verbs, 14u);
  EXPECT_GT(options, 100u);
  // The script works: bash completes verbs, options and their words.
  testing::TemporaryFolder folder;
  const std::string script = folder.write("porphyry.bash", shells["bash"]);
  auto completed = [&](const std::string& words, int at) {
    return testing::run_command("bash -c 'source " + script + "; COMP_WORDS=(" + words +
                                "); COMP_CWORD=" + std::to_string(at) + "; _porphyry; echo ${COMPREPLY[*]}'")
        .out;
  };
  EXPECT_EQ(completed("porphyry comp", 1), "compare\n");
  EXPECT_EQ(completed("porphyry show --vi", 2), "--view\n");
  EXPECT_EQ(completed("porphyry show --view reg", 3), "regions\n");
}

}  // namespace
}  // namespace porphyry
