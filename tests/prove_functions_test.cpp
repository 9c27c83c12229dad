// Proofs of whole functions: planted faults are found or at least never called the same, sound passes never
// called different, and what is named as an input shows it.
#include <gtest/gtest.h>

#include "porphyry/ir/clone.h"
#include "porphyry/passes/passes.h"
#include "porphyry/prove/functions.h"
#include "porphyry/sample/sample.h"
#include "support/faults.h"
#include "support/json.h"
#include "support/measure.h"
#include "support/process.h"
#include "support/read.h"

namespace porphyry {
namespace {

using Verdict = Proof::Verdict;

TEST(ProveFunctions, FindsPlantedFaults) {
  Realm realm;
  auto module = testing::must_read(realm, testing::victim);
  size_t found = 0, all = 0;
  for (const testing::Fault& fault : testing::faults()) {
    auto spoiled = clone(*module);
    std::string where;
    for (Symbol s : spoiled->functions())
      if (where.empty() && fault.plant(*spoiled, spoiled->function(s))) where = spoiled->symbol_name(s);
    ASSERT_FALSE(where.empty()) << fault.name;
    ++all;
    const Proof p = prove_same(*module, *spoiled, where, {.rounds = 3, .seconds = 20});
    EXPECT_NE(p.verdict, Verdict::Same) << fault.name << " in " << where;
    found += p.verdict == Verdict::Different;
    if (p.verdict != Verdict::Different) {
      EXPECT_EQ(where, "measured") << fault.name << ": " << p.why;  // floats: what is computed is not known
      continue;
    }
    EXPECT_NE(deviation(evaluate(*module, *p.call), evaluate(*spoiled, *p.call)), "") << fault.name;
  }
  EXPECT_GE(found, all - 3);
  EXPECT_GE(found, 40u);
}

TEST(ProveFunctions, CallsNoSoundPassWrong) {
  size_t same = 0, decided = 0;
  for (uint64_t seed = 1; seed <= testing::part_of(16); ++seed) {
    Realm realm;
    auto module = std::move(
        make_sample(realm, {.seed = seed, .functions = 2, .statements = 5, .layout = MemoryLayout{}}).module);
    auto after = clone(*module);
    run_pipeline(*after, level_named(seed % 2 ? "-O2" : "-Os")->pipeline());
    for (Symbol s : module->functions()) {
      if ((*module)[s].is_local) continue;
      const Proof p = prove_same(*module, *after, module->symbol_name(s),
                                 {.rounds = 2, .seconds = 0.5, .most_steps = 1'000});
      EXPECT_NE(p.verdict, Verdict::Different)
          << seed << ": " << (p.call ? p.call->text() + ": " + p.deviation : "");
      same += p.verdict == Verdict::Same;
      decided += p.verdict != Verdict::Unknown;
    }
  }
  EXPECT_GE(same, testing::part_of(4));
  EXPECT_EQ(same, decided);
}

struct Pair {
  const char* what;
  const char *left, *right;  // bodies of f(a: i32, b: i32, p: ptr) -> i32
  Verdict verdict;
};

TEST(ProveFunctions, KnowsWhatMayStandForWhat) {
  const std::vector<Pair> pairs = {
      {"a product and shifts", "  r = mul a, 10\n  return r\n",
       "  x = shl a, 3\n  y = shl a, 1\n  r = add x, y\n  return r\n", Verdict::Same},
      {"a division by a power of two", "  r = div.s a, 4\n  return r\n", "  r = shr.s a, 2\n  return r\n",
       Verdict::Different},
      {"the same with its correction", "  r = div.s a, 4\n  return r\n",
       "  s = shr.s a, 31\n  c = and s, 3\n  x = add a, c\n  r = shr.s x, 2\n  return r\n", Verdict::Same},
      {"a trap that is lost", "  r = div.s a, b\n  return 1\n", "  return 1\n", Verdict::Different},
      {"a trap that is added", "  return 1\n", "  r = div.s a, b\n  return 1\n", Verdict::Different},
      {"a promise permits",
       "  r = add a, 1 promise fits.s\n  c = gt.s r, a\n  w = widen.u i32 c\n  return w\n", "  return 1\n",
       Verdict::Same},
      {"without it, not", "  r = add a, 1\n  c = gt.s r, a\n  w = widen.u i32 c\n  return w\n",
       "  return 1\n", Verdict::Different},
      {"a promise that is new", "  r = add a, 1\n  return r\n", "  r = add a, 1 promise fits.s\n  return r\n",
       Verdict::Different},
      {"a store and its load", "  store a, [p + 4]\n  r = load i32 [p + 4]\n  return r\n",
       "  store a, [p + 4]\n  return a\n", Verdict::Same},
      {"a store that is lost", "  store a, [p + 4]\n  return a\n", "  return a\n", Verdict::Different},
      {"bytes of a word", "  store a, [p]\n  x = load i8 [p + 1]\n  r = widen.u i32 x\n  return r\n",
       "  store a, [p]\n  s = shr.u a, 8\n  r = and s, 255\n  return r\n", Verdict::Same},
      {"a frame object",
       "  s = reserve 8 align 8\n  store b, [s]\n  store a, [p]\n  r = load i32 [s]\n  return r\n",
       "  store a, [p]\n  return b\n", Verdict::Same},
      {"a loop that sums",
       "  go round(0, 0)\nround(k: i32, s: i32):\n  s2 = add s, b\n  k2 = add k, 1\n  c = lt.s k2, 3\n  when "
       "c go round(k2, s2) else out(s2)\nout(r: i32):\n  return r\n",
       "  r = mul b, 3\n  return r\n", Verdict::Same},
      {"calls in another order", "  x = call ask(a)\n  y = call ask(b)\n  r = sub x, y\n  return r\n",
       "  y = call ask(b)\n  x = call ask(a)\n  r = sub x, y\n  return r\n", Verdict::Unknown},
      {"a masked load and a pick",
       "  x = splat i32[2] a\n  m = lt.s x, {0, 5}\n  v = load i32[2] [p] where m else x\n  r = sum v\n  "
       "return r\n",
       "  x = splat i32[2] a\n  m = lt.s x, {0, 5}\n  w = load i32[2] [p]\n  v = pick m, w, x\n  r = sum v\n "
       " return "
       "r\n",
       Verdict::Same},
      {"the other way round",
       "  x = splat i32[2] a\n  m = lt.s x, {0, 5}\n  v = load i32[2] [p] where m else x\n  r = sum v\n  "
       "return r\n",
       "  x = splat i32[2] a\n  m = lt.s x, {0, 5}\n  w = load i32[2] [p]\n  v = pick m, x, w\n  r = sum v\n "
       " return "
       "r\n",
       Verdict::Different},
      {"a masked store, lane by lane",
       "  x = splat i32[2] a\n  m = lt.s x, {0, 5}\n  store x, [p] where m\n  return b\n",
       "  c = lt.s a, 5\n  d = lt.s a, 0\n  o = load i32 [p + 4]\n  q = load i32 [p]\n  y = pick c, a, o\n  "
       "z = pick d, "
       "a, q\n  store z, [p]\n  store y, [p + 4]\n  return b\n",
       Verdict::Same},
      {"a fill of any length",
       "  n = and a, 15\n  w = widen.u i64 n\n  fill 7:i8, [p], w\n  v = load i8 [p]\n  r = widen.u i32 v\n  "
       "return r\n",
       "  n = and a, 15\n  w = widen.u i64 n\n  v0 = load i8 [p]\n  fill 7:i8, [p], w\n  z = eq n, 0\n  v = "
       "pick z, v0, "
       "7\n  r = widen.u i32 v\n  return r\n",
       Verdict::Same},
      {"a fill of no length is forgotten",
       "  n = and a, 15\n  w = widen.u i64 n\n  fill 7:i8, [p], w\n  v = load i8 [p]\n  r = widen.u i32 v\n  "
       "return r\n",
       "  n = and a, 15\n  w = widen.u i64 n\n  fill 7:i8, [p], w\n  return 7\n", Verdict::Different},
      {"a copy of any length and what it moved",
       "  n = and a, 15\n  w = widen.u i64 n\n  copy [p + 32], [p + 1], w\n  return b\n",
       "  n = and a, 15\n  w = widen.u i64 n\n  copy [p + 32], [p + 2], w\n  return b\n", Verdict::Different},
      {"volatile accesses in another order",
       "  x = load i32 [p] volatile\n  y = load i32 [p + 4] volatile\n  r = sub x, y\n  return r\n",
       "  y = load i32 [p + 4] volatile\n  x = load i32 [p] volatile\n  r = sub x, y\n  return r\n",
       Verdict::Unknown},
      {"volatile accesses in their order",
       "  x = load i32 [p] volatile\n  y = load i32 [p + 4] volatile\n  r = sub x, y\n  return r\n",
       "  x = load i32 [p] volatile\n  y = load i32 [p + 4] volatile\n  m = neg y\n  r = add x, m\n  return "
       "r\n",
       Verdict::Same},
      {"a call of a known body", "  r = call twice(a)\n  return r\n", "  r = shl a, 1\n  return r\n",
       Verdict::Same},
  };
  for (const Pair& pair : pairs) {
    Realm one, two;
    auto text = [](const char* body) {
      return std::string(
                 "module m\n\nextern func ask(i32) -> i32\n\nfunc twice(v: i32) -> i32 {\nenter:\n  r = "
                 "add v, v\n  return r\n}\n\n"
                 "func f(a: i32, b: i32, p: ptr) -> i32 {\nenter:\n") +
             body + "}\n";
    };
    auto left = testing::must_read(one, text(pair.left)), right = testing::must_read(two, text(pair.right));
    const Proof p = prove_same(*left, *right, "f", {});
    EXPECT_EQ(p.verdict, pair.verdict) << pair.what << ": " << p.why << (p.call ? p.call->text() : "");
  }
}

TEST(ProveFunctions, TheToolShowsACounterexampleInStep) {
  testing::TemporaryFolder folder;
  const std::string left =
      folder.write("l.por", testing::in_function("(n: i32) -> i32", "  q = div.s n, 2\n  return q\n"));
  const std::string right =
      folder.write("r.por", testing::in_function("(n: i32) -> i32", "  q = shr.s n, 1\n  return q\n"));
  auto shown = testing::run_command(PORPHYRY_TOOL " prove " + left + " --against " + right + " 2>&1");
  EXPECT_EQ(shown.status, 1);
  EXPECT_NE(shown.out.find("different"), std::string::npos) << shown.out;
  EXPECT_NE(shown.out.find("first difference: q in f"), std::string::npos) << shown.out;
  auto good = testing::read_json(testing::run_command(PORPHYRY_TOOL " prove " + left + " -O2 --json").out);
  EXPECT_EQ(good[0]["verdict"], "same");
  EXPECT_EQ(testing::run_command(PORPHYRY_TOOL " prove " + left + " --function g 2>&1").status, 2);
}

}  // namespace
}  // namespace porphyry
