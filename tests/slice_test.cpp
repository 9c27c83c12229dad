// Slices and secrets, by running: what is outside of a slice does not change with its value, and where no
// secret is reported to decide a branch, runs with other secrets take the same way.
#include <gtest/gtest.h>

#include <map>

#include "porphyry/ask/inputs.h"
#include "porphyry/ask/secrets.h"
#include "porphyry/ask/slice.h"
#include "porphyry/passes/passes.h"
#include "porphyry/print/literals.h"
#include "porphyry/sample/sample.h"
#include "porphyry/simulate/run.h"
#include "porphyry/targets/targets.h"
#include "support/measure.h"
#include "support/process.h"
#include "support/read.h"

namespace porphyry {
namespace {

using Node = Dependences::Node;

TEST(Slice, ForwardAndBackwardAreEachOthersInverse) {
  size_t pairs = 0;
  for (uint64_t seed = 1; seed <= 6; ++seed) {
    Realm realm;
    Sample program = make_sample(realm, {.seed = seed, .statements = 6});
    const Module& m = *program.module;
    const Function& f = m.function(program.main);
    std::vector<Value> values;
    for (Block b : f.blocks())
      for (Instruction i : f.instructions(b))
        for (Value v : f.results(i)) values.push_back(v);
    if (values.size() > 60) values.resize(60);
    std::vector<Slice> back, forth;
    for (Value v : values) {
      back.push_back(*slice(m, program.main, value_text(m, f, v), SliceWay::Backward));
      forth.push_back(*slice(m, program.main, value_text(m, f, v), SliceWay::Forward));
    }
    for (size_t a = 0; a < values.size(); ++a)
      for (size_t b = 0; b < values.size(); ++b) {
        const bool holds = back[a].holds(Dependences::value(values[b]));
        ASSERT_EQ(holds, forth[b].holds(Dependences::value(values[a]))) << seed;
        pairs += holds;
      }
  }
  EXPECT_GT(pairs, 300u);
}

// What each value of the outermost call was, run after run.
std::map<uint32_t, std::vector<std::vector<uint64_t>>> values_of(const Module& m, const WrittenCall& call) {
  std::map<uint32_t, std::vector<std::vector<uint64_t>>> out;
  RunLimits limits{.steps = 20'000};
  limits.follow = [&](const Observation& seen) {
    if (seen.depth != 1 || m.symbol_name(seen.function) != call.function || !seen.value.exists() ||
        m.function(seen.function).type(seen.value).is_pointer())
      return;
    std::vector<uint64_t> lanes;
    for (const Datum& d : seen.lanes) lanes.push_back(d.bits ^ d.high << 1);
    out[seen.value.index].push_back(std::move(lanes));
  };
  evaluate(m, call, limits);
  return out;
}

TEST(Slice, WhatIsOutsideDoesNotChange) {
  size_t unchanged = 0, changed = 0;
  for (uint64_t seed = 1; seed <= testing::part_of(64); ++seed) {
    Realm realm;
    Sample program = make_sample(realm, {.seed = seed});
    const Module& m = *program.module;
    const Function& f = m.function(program.main);
    for (const WrittenCall& call : make_calls(m, program.main, {.count = 2, .attempts = 8}))
      for (size_t p = 0; p < f.parameters().size(); ++p) {
        const Value parameter = f.parameters()[p];
        if (f.type(parameter).is_pointer()) continue;
        WrittenCall other = call;
        other.words[p] =
            text::literal_text(std::vector<uint64_t>(f.type(parameter).words(), 1), f.type(parameter));
        const Slice s = *slice(m, program.main, value_text(m, f, parameter), SliceWay::Forward);
        const auto one = values_of(m, call), two = values_of(m, other);
        for (const auto& [value, was] : one) {
          const auto is = two.find(value);
          if (is == two.end() || is->second.size() != was.size())
            continue;  // it stands where fewer runs come
          const bool same = is->second == was;
          changed += !same;
          unchanged += same;
          EXPECT_TRUE(same || s.holds(Dependences::value(Value(value))))
              << seed << ": " << value_text(m, f, Value(value)) << " changes with "
              << value_text(m, f, parameter);
        }
      }
  }
  EXPECT_GT(changed, testing::part_of(200));
  EXPECT_GT(unchanged, testing::part_of(1'000));
}

struct Expected {
  const char* what;
  const char* body;  // of f(key: i32 secret, open: i32, at: ptr secret, free: ptr) -> i32
  std::vector<SecretUse::Kind> in_program, in_code;
};

std::vector<SecretUse::Kind> kinds(const std::vector<SecretUse>& uses) {
  std::vector<SecretUse::Kind> out;
  for (const SecretUse& u : uses) out.push_back(u.kind);
  return out;
}

TEST(Secrets, AreFoundWhereTheyShow) {
  constexpr auto branch = SecretUse::Kind::Branch, address = SecretUse::Kind::Address,
                 time = SecretUse::Kind::Time;
  const std::vector<Expected> all = {
      {"a choice without a branch", "  c = gt.s key, open\n  p = pick c, key, open\n  return p\n", {}, {}},
      {"arithmetic", "  a = mul key, open\n  b = rotl a, 5\n  c = xor b, key\n  return c\n", {}, {}},
      {"a public branch",
       "  c = gt.s open, 3\n  when c go x else y\nx:\n  return key\ny:\n  return 2\n",
       {},
       {}},
      {"a branch",
       "  c = gt.s key, 3\n  when c go x else y\nx:\n  return open\ny:\n  return 2\n",
       {branch},
       {branch}},
      {"a table",
       "  l = and key, 7\n  w = widen.u i64 l\n  v = load i32 [free + w*4]\n  return v\n",
       {address},
       {address}},
      {"a division", "  d = or open, 1\n  q = div.u key, d\n  return q\n", {time}, {time}},
      {"secret bytes, read", "  v = load i32 [at]\n  x = xor v, open\n  return x\n", {}, {}},
      {"secret bytes, decided on",
       "  v = load i32 [at + 8]\n  c = eq v, open\n  when c go x else y\nx:\n  return 1\ny:\n  return 0\n",
       {branch},
       {branch}},
      {"public bytes, decided on",
       "  v = load i32 [free]\n  c = eq v, open\n  when c go x else y\nx:\n  return 1\ny:\n  return 0\n",
       {},
       {}},
      {"through memory",
       "  s = reserve 8 align 8\n  store key, [s]\n  v = load i32 [s]\n  c = eq v, 1\n  when c go x else "
       "y\nx:\n  return 1\ny:\n  return 0\n",
       {branch},
       {branch}},
      {"other memory",
       "  s = reserve 8 align 8\n  store key, [s]\n  store open, [s + 4]\n  v = load i32 [s + 4]\n  c = eq "
       "v, 1\n  when c go x else y\nx:\n  return 1\ny:\n  return 0\n",
       {},
       {}},
      {"what a branch decides",
       "  c = eq key, 1\n  when c go x else y\nx:\n  go z(1)\ny:\n  go z(2)\nz(v: i32):\n  d = eq v, 1\n  "
       "when d go p else q\np:\n  return 5\nq:\n  return 6\n",
       {branch, branch},
       {branch, branch}},
      {"a call that decides", "  v = call decides(key)\n  return v\n", {branch}, {branch}},
      {"a call that gives it back",
       "  v = call gives(key)\n  c = eq v, 1\n  when c go x else y\nx:\n  return 1\ny:\n  return 0\n",
       {branch},
       {branch}},
      {"a call that gives something else",
       "  v = call public(key, open)\n  c = eq v, 1\n  when c go x else y\nx:\n  return 1\ny:\n  return 0\n",
       {},
       {}},
      {"a call that leaves it in memory",
       "  s = reserve 8 align 8\n  call leaves(s, key)\n  v = load i32 [s]\n  c = eq v, 1\n  when c go x "
       "else y\nx:\n  return 1\ny:\n  return 0\n",
       {branch},
       {branch}},
      {"through a pointer in memory",
       "  s = reserve 8 align 8\n  store at, [s]\n  q = load ptr [s]\n  v = load i32 [q]\n  c = eq v, 1\n  "
       "when c go "
       "x else y\nx:\n  return 1\ny:\n  return 0\n",
       {branch},
       {branch}},
      {"through a pointer that a call leaves in memory",
       "  s = reserve 8 align 8\n  call keeps(s, at)\n  q = load ptr [s]\n  v = load i32 [q]\n  c = eq v, "
       "1\n  when c go "
       "x else y\nx:\n  return 1\ny:\n  return 0\n",
       {branch},
       {branch}},
      {"another pointer in memory",
       "  s = reserve 16 align 8\n  store at, [s]\n  store free, [s + 8]\n  q = load ptr [s + 8]\n  v = load "
       "i32 "
       "[q]\n  c = eq v, 1\n  when c go x else y\nx:\n  return 1\ny:\n  return 0\n",
       {},
       {}},
  };
  for (const Expected& e : all) {
    Realm realm;
    std::string text =
        std::string(
            "module m\n\nfunc f(key: i32 secret, open: i32, at: ptr secret, free: ptr) -> i32 {\nenter:\n") +
        e.body +
        "}\n\nlocal func decides(v: i32) -> i32 never inline {\nenter:\n  c = eq v, 9\n  when c go x else "
        "y\nx:\n  return 1\ny:\n  return 0\n}\n\n"
        "local func gives(v: i32) -> i32 never inline {\nenter:\n  r = add v, 1\n  return r\n}\n\n"
        "local func public(v: i32, w: i32) -> i32 never inline {\nenter:\n  r = add w, 1\n  return r\n}\n\n"
        "local func leaves(to: ptr, v: i32) never inline {\nenter:\n  store v, [to]\n  return\n}\n\n"
        "local func keeps(to: ptr, p: ptr) never inline {\nenter:\n  store p, [to]\n  return\n}\n";
    auto module = testing::must_read(realm, text);
    EXPECT_EQ(kinds(secret_uses(*module)), e.in_program) << e.what;
    for (const char* level : {"-O0", "-Og"}) {
      auto lowered = machine::lower(*module, *native_target(), [&] {
        auto options = machine::LowerOptions::at(*level_named(level));
        options.explain = true;
        return options;
      }());
      ASSERT_TRUE(lowered.good());
      EXPECT_EQ(kinds(secret_uses(*lowered, *native_target())), e.in_code) << e.what << " at " << level;
    }
    for (const SecretUse& use : secret_uses(*module)) {
      ASSERT_FALSE(use.way.empty()) << e.what;
      EXPECT_NE(use.way.front().find("parameter"), std::string::npos) << use.way.front();
    }
  }
}

// A mark is in force behind inlining, too: where the caller's own do not say what it says, the call stays.
TEST(Secrets, MarksOutliveInlining) {
  Realm realm;
  auto module = testing::must_read(realm, R"(module m

func f(key: i32 secret, open: i32) -> i32, i32 {
enter:
  k = xor key, open
  v = call decides(k)
  w = call decides(open)
  return v, w
}

local func decides(n: i32 secret) -> i32 prefer inline {
enter:
  c = eq n, 9
  when c go x else y
x:
  return 1
y:
  return 0
}
)");
  run_pipeline(*module, *read_pipeline("inline"));
  const std::string text = write_text(*module);
  EXPECT_EQ(text.find("call decides(k)"), text.npos);
  EXPECT_NE(text.find("call decides(open)"), text.npos);
  EXPECT_EQ(kinds(secret_uses(*module)), std::vector(2, SecretUse::Kind::Branch));
}

// Runs with other secrets pass the same blocks where no branch on one is reported: in the IR, and in code,
// instruction by instruction.
TEST(Secrets, RunsTakeTheSameWayWhereNoneIsReported) {
  size_t ir_runs = 0, code_runs = 0, reported = 0;
  for (uint64_t seed = 1; seed <= testing::part_of(160); ++seed) {
    Realm realm;
    Sample program = make_sample(realm, {.seed = seed, .layout = MemoryLayout{}});
    Module& m = *program.module;
    const Function& f = m.function(program.main);
    for (Symbol s : m.functions()) m[s].facts.marks.clear();
    size_t secret = f.parameters().size();
    for (size_t p = 0; p < f.parameters().size(); ++p)
      if (f.type(f.parameters()[p]).is_integer() && !f.type(f.parameters()[p]).has_lanes()) secret = p;
    if (secret == f.parameters().size()) continue;
    m[program.main].facts.set_marks(secret, mark::secret);
    auto decides = [](const std::vector<SecretUse>& uses) {
      return std::any_of(uses.begin(), uses.end(),
                         [](const SecretUse& u) { return u.kind != SecretUse::Kind::Time; });
    };
    auto lowered_options = machine::LowerOptions{.explain = true};
    auto lowered = machine::lower(m, *native_target(), lowered_options);
    auto jit = Jit::compile(m, *native_target(), lowered_options);
    if (!lowered || !jit) continue;
    const bool in_ir = decides(secret_uses(m)), in_code = decides(secret_uses(*lowered, *native_target()));
    reported += in_ir;
    for (const WrittenCall& call : make_calls(m, program.main, {.count = 2, .attempts = 6})) {
      WrittenCall other = call;
      other.words[secret] = call.words[secret] == "1" ? "0" : "1";
      std::vector<uint64_t> ways[2], codes[2];
      const WrittenCall* calls[] = {&call, &other};
      for (int k = 0; k < 2; ++k) {
        RunLimits limits{.steps = 20'000};
        limits.follow = [&](const Observation& seen) {
          ways[k].push_back(uint64_t(seen.function.index) << 32 | seen.at.index);
        };
        evaluate(m, *calls[k], limits);
        auto prepared = prepare_call(m, calls[k]->function, calls[k]->words);
        simulate::RunOptions run{.step_limit = 20'000};
        // Pages by the order in which they are met: each run has its code where there is room.
        std::map<uint64_t, uint64_t> pages;
        run.see = [&](const simulate::Observation& seen) {
          const uint64_t page = pages.try_emplace(seen.address >> 12, pages.size()).first->second;
          codes[k].push_back(page << 12 | (seen.address & 0xfff));
        };
        if (!in_code) run_on_simulator(m, **jit, *native_target(), *prepared, run);
      }
      EXPECT_TRUE(in_ir || ways[0] == ways[1]) << seed << ": " << call.text();
      ir_runs += !in_ir;
      EXPECT_TRUE(in_code || codes[0] == codes[1]) << seed << ": " << call.text();
      code_runs += !in_code;
    }
  }
  EXPECT_GT(ir_runs, testing::part_of(30));
  EXPECT_GE(code_runs, testing::part_of(20));
  EXPECT_GE(reported, testing::part_of(20));
}

TEST(Secrets, TheToolEndsWithOneWhereThereIsOne) {
  testing::TemporaryFolder folder;
  const std::string open =
      folder.write("open.por", testing::in_function("(k: i32) -> i32", "  r = add k, 1\n  return r\n"));
  const std::string shows = folder.write(
      "shows.por",
      testing::in_function("(k: i32 secret) -> i32",
                           "  c = eq k, 1\n  when c go x else y\nx:\n  return 1\ny:\n  return 0\n"));
  auto ran = [&](const std::string& words) {
    return testing::run_command(PORPHYRY_TOOL " check --secret " + words + " 2>&1");
  };
  EXPECT_EQ(ran(open).status, 0);
  EXPECT_EQ(ran(open).out, "no secret decides a branch, an address or a time\n");
  EXPECT_EQ(ran(shows).status, 1);
  EXPECT_NE(ran(shows).out.find("a secret decides a branch: when c go x else y"), std::string::npos);
  EXPECT_EQ(testing::run_command(PORPHYRY_TOOL " check -O2 " + open + " 2>&1").status, 2);
}

}  // namespace
}  // namespace porphyry
