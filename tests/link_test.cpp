// Modules made one, functions that move, blocks that are cut and joined.
#include "porphyry/ir/link.h"

#include <gtest/gtest.h>

#include "porphyry/analyze/verify.h"
#include "porphyry/eval/evaluator.h"
#include "porphyry/ir/clone.h"
#include "porphyry/print/print.h"
#include "porphyry/render/diagnostics.h"
#include "porphyry/sample/sample.h"
#include "support/read.h"
#include "support/sample_run.h"

namespace porphyry {
namespace {

using testing::must_read;

TEST(Link, MakesOneModuleOfTwoInDifferentRealms) {
  Realm a, b;
  auto one = must_read(a, R"(module one
source 1 "rows.fml"

kinds orchard {
  cell
  degree under cell
}

extern func chill(ptr) -> i64
local data limit holds i64: 3

func main() -> i64 {
enter:
  p = address of limit
  r = call chill(p)    @1:2:3
  return r
}
)");
  auto two = must_read(b, R"(module two
source 1 "posts.fml"

kinds orchard {
  cell
  degree under cell
}

local data limit holds i64: 40
weak data shared holds i32: 1

-- twice the limit and more
func chill(p: ptr) -> i64 {
enter:
  q = address of limit
  x = load i64 [q] as orchard.degree    @1:7:8
  y = load i64 [p]
  r = add x, y
  return r
}
)");
  Diagnostics problems = link(*one, *two);
  EXPECT_TRUE(problems.empty()) << render(problems);
  EXPECT_TRUE(verify(*one).empty()) << render(verify(*one));
  Evaluator e(*one);
  EXPECT_EQ(e.call(one->find("main"), {}).results[0].bits, 43u);
  std::string text = write_text(*one);
  for (const char* part :
       {"source 2 \"posts.fml\"", "limit_2", "@2:7:8", "-- twice the limit", "as orchard.degree"})
    EXPECT_NE(text.find(part), std::string::npos) << part << "\n" << text;
  Realm c;
  EXPECT_EQ(write_text(*must_read(c, text)), text);
}

TEST(Link, ExplainsWhatDoesNotGoTogether) {
  Realm a, b;
  auto one = must_read(a,
                       "module one\nkinds k {\n  x\n}\nextern func f(i32) -> i32\nfunc g() {\na:\n  "
                       "return\n}\ndata d holds i32: 1\n");
  auto two = must_read(b,
                       "module two\nkinds k {\n  y\n}\nfunc f(i: i64) -> i32 {\na:\n  return 1\n}\nfunc g() "
                       "{\na:\n  return\n}\n"
                       "extern func d()\n");
  std::string before = write_text(*one);
  Diagnostics problems = link(*one, *two);
  ASSERT_EQ(problems.size(), 4u) << render(problems);
  EXPECT_EQ(problems[0].message, "'f' is (i32) -> i32 in one module and (i64) -> i32 in the other");
  EXPECT_EQ(problems[1].message, "both modules have a function called 'g'");
  EXPECT_EQ(problems[2].message, "'d' is data in one module and an external function in the other");
  EXPECT_EQ(problems[3].message, "the kinds 'k' differ between the modules");
  EXPECT_EQ(write_text(*one), before);
}

TEST(Link, WeakGivesWay) {
  Realm a, b;
  auto one = must_read(a,
                       "module one\nweak func f() -> i64 {\na:\n  return 1\n}\nfunc g() -> i64 {\na:\n  r = "
                       "call f()\n  return r\n}\n");
  auto two = must_read(b, "module two\nfunc f() -> i64 {\na:\n  return 2\n}\n");
  ASSERT_EQ(render(link(*one, *two)), "");
  EXPECT_EQ(Evaluator(*one).call(one->find("g"), {}).results[0].bits, 2u);
}

// Everything of one name in two modules, in every pairing: what meets, what stays apart, who wins, what is
// refused.
TEST(Link, EveryPairingOfSymbolsFollowsItsRule) {
  struct Thing {
    const char* text;  // "x", with # for a number that tells the two apart
    bool callable, external, local, weak;
  };
  const Thing things[] = {
      {"func x() -> i64 {\na:\n  return #\n}\n", true, false, false, false},
      {"weak func x() -> i64 {\na:\n  return #\n}\n", true, false, false, true},
      {"local func x() -> i64 {\na:\n  return #\n}\n", true, false, true, false},
      {"extern func x() -> i64\n", true, true, false, false},
      {"data x holds i64: #\n", false, false, false, false},
      {"weak data x holds i64: #\n", false, false, false, true},
      {"local data x holds i64: #\n", false, false, true, false},
      {"extern data x\n", false, true, false, false},
  };
  auto text = [](const Thing& t, int number) {
    std::string out = t.text;
    if (size_t at = out.find('#'); at != out.npos) out.replace(at, 1, std::to_string(number));
    // Each module asks for its own, by a function of its own.
    std::string ask = t.callable ? "  r = call x()\n" : "  p = address of x\n  r = load i64 [p]\n";
    return "module m\n" + out + "func ask" + std::to_string(number) + "() -> i64 {\na:\n" + ask +
           "  return r\n}\n";
  };
  size_t refused = 0, won = 0;
  for (const Thing& one : things)
    for (const Thing& two : things) {
      Realm a, b;
      auto into = must_read(a, text(one, 1)), other = must_read(b, text(two, 2));
      std::string what = text(one, 1) + text(two, 2), before = write_text(*into);
      bool meet = !one.local && !two.local;
      bool both = !one.external && !two.external, strong = !one.weak && !two.weak;
      Diagnostics problems = link(*into, *other);
      if (meet && (one.callable != two.callable || (both && strong))) {
        ++refused;
        ASSERT_EQ(problems.size(), 1u) << what;
        EXPECT_NE(problems[0].message.find("'x'"), std::string::npos) << problems[0].message;
        EXPECT_NE(problems[0].message.find(one.callable != two.callable ? "in one module and"
                                                                        : "both modules have"),
                  std::string::npos)
            << problems[0].message;
        EXPECT_EQ(write_text(*into), before);
        continue;
      }
      ASSERT_TRUE(problems.empty()) << what << render(problems);
      ASSERT_TRUE(verify(*into).empty()) << what << render(verify(*into));
      // Who answers each of the two that ask; 0: nobody, it is still external.
      int first = one.external ? 0 : 1, second = two.external ? 0 : 2;
      if (meet) {
        bool replaced = !two.external && (one.external || (one.weak && !two.weak));
        first = second = replaced ? 2 : one.external ? 0 : 1;
      }
      for (auto [asker, answer] : {std::pair{"ask1", first}, std::pair{"ask2", second}}) {
        if (answer == 0) continue;
        ++won;
        Outcome out = Evaluator(*into).call(into->find(asker), {});
        ASSERT_EQ(out.end, Outcome::End::Result) << what << out.message;
        EXPECT_EQ(out.results[0].bits, static_cast<uint64_t>(answer)) << asker << " in\n" << what;
      }
      EXPECT_EQ(into->symbol_count(), meet ? 3u : 4u) << what;
    }
  EXPECT_GT(refused, 15u);
  EXPECT_GT(won, 50u);
}

TEST(Link, KindsAndLayoutsHaveToAgreeInEveryPart) {
  auto module = [](const std::string& layout, const std::string& kinds) {
    return "module m\n" + layout + "kinds orchard {\n  cell\n  degree under cell\n" + kinds + "}\n";
  };
  const std::string night = "  record Night size 8 { 0 dry: degree, 4 wet: degree }\n";
  Realm a;
  std::string good = module("", night);
  ASSERT_EQ(render(link(*must_read(a, good), *must_read(a, good))), "");
  struct Other {
    std::string layout, kinds, message;
  };
  auto record = [](const std::string& rest) { return "  record Night size " + rest + "\n"; };
  const Other others[] = {
      {"layout big\n", night, "lay out memory differently"},
      {"layout little pointers 32\n", night, "lay out memory differently"},
      {"", night + "  minute under cell\n", "the kinds 'orchard' differ"},
      {"", "", "the kinds 'orchard' differ"},
      {"", record("12 { 0 dry: degree, 4 wet: degree }"), "the kinds 'orchard' differ"},
      {"", record("8 { 0 dry: degree, 4 wet: cell }"), "the kinds 'orchard' differ"},
      {"", record("8 { 4 dry: degree, 0 wet: degree }"), "the kinds 'orchard' differ"},
      {"", record("8 { 0 dry: degree, 4 damp: degree }"), "the kinds 'orchard' differ"},
  };
  for (const auto& [layout, kinds, message] : others) {
    Realm b;
    auto into = must_read(a, good), other = must_read(b, module(layout, kinds));
    Diagnostics problems = link(*into, *other);
    ASSERT_FALSE(problems.empty()) << layout << kinds;
    EXPECT_NE(problems[0].message.find(message), std::string::npos) << problems[0].message;
    EXPECT_EQ(write_text(*into), write_text(*must_read(a, good)));
  }
}

TEST(Link, FunctionsMoveBetweenRealms) {
  for (uint64_t seed = 1; seed <= 60; ++seed) {
    Realm a, b;
    Sample program = make_sample(a, {.seed = seed});
    Module whole(b, "whole");
    whole.layout = program.module->layout;
    Diagnostics problems = link(whole, *program.module);
    ASSERT_TRUE(problems.empty()) << render(problems);
    ASSERT_TRUE(verify(whole).empty()) << render(verify(whole));
    Module one(b, "one");
    one.layout = program.module->layout;
    auto moved = copy_function(one, *program.module, program.main);
    ASSERT_TRUE(moved.good()) << render(moved.why());
    ASSERT_TRUE(verify(one).empty()) << render(verify(one));
    ASSERT_EQ(write_text(one, *moved), write_text(*program.module, program.main));
  }
}

// Cutting blocks anywhere and joining them again changes nothing that runs.
TEST(Blocks, AreCutAndJoined) {
  for (uint64_t seed = 1; seed <= 40; ++seed) {
    Realm realm;
    Sample program = make_sample(realm, {.seed = seed, .layout = MemoryLayout{}});
    auto cut = clone(*program.module);
    for (Symbol s : cut->functions()) {
      Function& f = cut->function(s);
      for (Block b : f.blocks())
        if (f.first(b) != f.last(b) && (b.index + seed) % 2) f.split(b, f.next(f.first(b)));
    }
    ASSERT_TRUE(verify(*cut).empty()) << render(verify(*cut));
    auto joined = clone(*cut);
    size_t merges = 0;
    for (Symbol s : joined->functions()) {
      Function& f = joined->function(s);
      for (Block b : f.blocks())
        while (f.merge_with_next(b)) ++merges;
    }
    EXPECT_GT(merges, 0u);
    ASSERT_TRUE(verify(*joined).empty()) << render(verify(*joined));
    auto run = [&](const Module& m) {
      auto piece = Sample::fresh_piece();
      Evaluator e(m, {.step_limit = 500000});
      Outcome out = e.call(program.main, testing::sample_arguments(program, e.attach(piece, "piece")));
      std::string text = end_text(out.end);
      for (Datum d : out.results) text += " " + std::to_string(d.bits);
      return text + std::string(piece.begin(), piece.end());
    };
    std::string meant = run(*program.module);
    ASSERT_EQ(run(*cut), meant) << seed;
    ASSERT_EQ(run(*joined), meant) << seed;
  }
}

}  // namespace
}  // namespace porphyry
