// Passes one by one: what they make of small programs, what they decline and why; pipelines and levels.
#include <fmt/format.h>
#include <gtest/gtest.h>

#include "porphyry/machine/legalize.h"
#include "porphyry/passes/passes.h"
#include "porphyry/print/print.h"
#include "porphyry/render/notes.h"
#include "porphyry/targets/targets.h"
#include "support/read.h"

namespace porphyry {
namespace {

using testing::must_read;

struct Optimized {
  std::string text;
  Notes notes;
};

Optimized optimized(std::string_view text, std::string_view pipeline) {
  Realm realm;
  auto module = must_read(realm, text);
  Optimized out;
  auto p = read_pipeline(pipeline);
  EXPECT_TRUE(p.good()) << render(p.why());
  Diagnostics broken = run_pipeline(*module, *p, {.notes = &out.notes, .check_between = true});
  EXPECT_TRUE(broken.empty()) << render(broken);
  out.text = write_text(*module, Symbol(0));
  return out;
}

const Note* note_on(const Notes& notes, std::string_view value) {
  for (const Note& n : notes)
    if (n.value == value) return &n;
  return nullptr;
}

TEST(Promote, MakesValuesOfSlotsThatAreOnlyLoadedAndStored) {
  Optimized o = optimized(R"(module m
func f(n: i32) -> i32 {
enter:
  total = reserve 4 align 4    @1:2:3
  i     = reserve 4 align 4
  store 0:i32, [total]
  store 0:i32, [i]
  go head
head:
  a = load i32 [i]
  c = lt.s a, n
  when c go body else done
body:
  t = load i32 [total]
  b = load i32 [i]
  u = add t, b
  store u, [total]
  d = add b, 1
  store d, [i]
  go head
done:
  r = load i32 [total]
  return r
}
)",
                          "promote");
  EXPECT_EQ(o.text, R"(func f(n: i32) -> i32 {
enter:
  go head(0, 0)

head(total: i32, i: i32):
  c = lt.s i, n
  when c go body else done

body:
  u = add total, i
  d = add i, 1
  go head(u, d)

done:
  return total
}
)");
  const Note* n = note_on(o.notes, "total");
  ASSERT_NE(n, nullptr);
  EXPECT_EQ(n->kind, Note::Kind::Done);
  EXPECT_EQ(n->position, "1:2:3");
  EXPECT_EQ(n->figures[1], (std::pair<std::string, std::string>("loads", "2")));
}

TEST(Promote, PlacesParametersOnlyWhereTheSlotIsStillRead) {
  Optimized o = optimized(R"(module m
func f(c: bool) -> i32 {
enter:
  s = reserve 4 align 4
  when c go yes else no
yes:
  store 1:i32, [s]
  v = load i32 [s]
  go join(v)
no:
  go join(2)
join(r: i32):
  return r
}
)",
                          "promote; sweep");
  EXPECT_EQ(o.text,
            "func f(c: bool) -> i32 {\nenter:\n  when c go yes else no\n\nyes:\n  go join(1)\n\nno:\n  go "
            "join(2)\n\njoin(r: i32):\n  return r\n}\n");
}

TEST(Promote, SaysWhyItDeclines) {
  struct Case {
    const char* use;
    const char* why;
  };
  const Case cases[] = {{"  store s, [p]\n", "its address is used by 'store'"},
                        {"  a = load i16 [s]\n  store 1:i32, [s]\n", "it is accessed as"},
                        {"  a = load i16 [s + 2]\n", "a part of it is accessed"},
                        {"  a = load i32 [s] volatile\n", "an access to it is volatile"},
                        {"  a = load i64 [s]\n", "an access of 8 bytes reaches past its 4"},
                        {"  a = bits i64 s\n", "its address is used by 'bits'"},
                        {"  go next(s)\nnext(q: ptr):\n", "its address goes to another block"}};
  for (const Case& c : cases) {
    std::string text = "module m\nfunc f(p: ptr) {\nenter:\n  s = reserve 4 align 4\n" + std::string(c.use) +
                       "  return\n}\n";
    Optimized o = optimized(text, "promote");
    const Note* n = note_on(o.notes, "s");
    ASSERT_NE(n, nullptr) << c.use;
    EXPECT_EQ(n->kind, Note::Kind::Declined) << c.use;
    EXPECT_EQ(n->why.find(c.why), 0u) << n->why;
    EXPECT_FALSE(n->unlock.empty());
    EXPECT_NE(o.text.find("reserve"), std::string::npos);
  }
}

TEST(Fold, FollowsConstantsAndBranches) {
  Optimized o = optimized(R"(module m
func f(x: i32) -> i32 {
enter:
  a = mul 6:i32, 7
  b = sub a, 2
  c = gt.s b, 39    @1:5:5
  when c go yes else no
yes:
  d = pick c, x, b
  return d
no:
  e = div.s 1:i32, 0
  return e
}
)",
                          "fold");
  EXPECT_EQ(o.text,
            "func f(x: i32) -> i32 {\nenter:\n  go yes\n\nyes:\n  return x\n\nno:\n  e = div.s 1:i32, 0\n  "
            "return e\n}\n");
  EXPECT_EQ(note_on(o.notes, "c")->what, "became true");
  EXPECT_EQ(note_on(o.notes, "e")->kind, Note::Kind::Declined);  // the trap stays
  EXPECT_EQ(note_on(o.notes, "enter")->what, "always goes to yes");
}

TEST(Sweep, TakesWhatNobodyUsesAndLeavesEffects) {
  Optimized o = optimized(R"(module m
func f(p: ptr, n: i32) -> i32 {
enter:
  a = add n, 1
  b = load i32 [p]
  c = load i32 [p] volatile
  d = div.s n, n
  e = call g()
  go loop(0, 0)
loop(i: i32, unused: i32):
  next = add unused, 1
  i2   = add i, 1
  more = lt.s i2, n
  when more go loop(i2, next) else out
out:
  return i2
lost:
  x = add n, 2
  go lost2(x)
lost2(y: i32):
  go lost
}
func g() -> i32 {
enter:
  trap
}
)",
                          "sweep");
  EXPECT_EQ(o.text, R"(func f(p: ptr, n: i32) -> i32 {
enter:
  c = load i32 [p] volatile
  d = div.s n, n
  e = call g()
  go loop(0)

loop(i: i32):
  i2   = add i, 1
  more = lt.s i2, n
  when more go loop(i2) else out

out:
  return i2
}
)");
  EXPECT_EQ(note_on(o.notes, "d")->kind, Note::Kind::Declined);
  EXPECT_NE(render(o.notes).find("would act with: a divisor that is shown not to be zero"),
            std::string::npos);
}

// An analysis and passes that the library has never heard of.
struct CallCount {
  explicit CallCount(const Function& f) {
    for (Block b : f.blocks())
      for (Instruction i : f.instructions(b)) calls += info(f.op(i)).calls();
    ++made;
  }
  size_t calls = 0;
  static inline size_t made = 0;
};
struct Budget {
  size_t left;
};

TEST(Pipeline, UsersAddPassesAndAnalyses) {
  PassTable table = standard_passes();
  std::vector<std::string> seen;
  auto note = [&](FunctionContext& c) {
    seen.push_back(fmt::format("{} {}", c.module.symbol_name(c.symbol), c.facts.get<CallCount>().calls));
  };
  EXPECT_TRUE(table.add({.name = "first", .doc = "counts", .run = OverFunction(note)}).empty());
  EXPECT_TRUE(table.add({.name = "second", .doc = "counts", .run = OverFunction(note)}).empty());
  // Erases the last function's first call, as long as the budget lasts, and then nothing more.
  auto drop = [](ModuleContext& c) {
    Function& f = c.module.function(c.module.find("two"));
    Instruction i = f.first(f.entry());
    auto& budget = *c.surroundings->find<Budget>();
    if (!info(f.op(i)).calls() || budget.left == 0) return;
    --budget.left;
    f.erase(i);
  };
  size_t finished = 0;
  EXPECT_TRUE(table
                  .add({.name = "drop-call",
                        .doc = "drops a call",
                        .run = OverModule(drop),
                        .finish = [&](ModuleContext&) { ++finished; },
                        .needs = type_id<Budget>,
                        .needs_doc = "a budget"})
                  .empty());
  EXPECT_EQ(table.add({.name = "fold", .doc = "", .run = OverFunction(note)})[0].message,
            "a pass is called 'fold' already");
  EXPECT_EQ(table.add({.name = "A b", .doc = "", .run = OverFunction(note)})[0].message,
            "'A b' cannot name a pass");
  EXPECT_FALSE(standard_passes().find("first"));

  Realm realm;
  auto module =
      testing::must_read(realm,
                         "module m\nfunc one() {\na:\n  return\n}\n"
                         "func two() {\na:\n  call one()\n  call one()\n  call one()\n  return\n}\n");
  auto pipeline = read_pipeline("first; second; until stable { drop-call; first }; second", table);
  ASSERT_TRUE(pipeline.good()) << render(pipeline.why());
  Diagnostics lacks = run_pipeline(*module, *pipeline);
  ASSERT_EQ(lacks.size(), 1u);
  EXPECT_EQ(lacks[0].message, "the pass 'drop-call' cannot run here");
  EXPECT_EQ(lacks[0].expected, "a budget");
  EXPECT_TRUE(seen.empty());

  TypeMap surroundings;
  surroundings.put(std::make_unique<Budget>(Budget{2}));
  std::vector<StepRecord> steps;
  CallCount::made = 0;
  EXPECT_TRUE(run_pipeline(*module, *pipeline,
                           {.steps = &steps, .check_between = true, .surroundings = &surroundings})
                  .empty());
  // Function by function where no module pass stands between; the analysis is made once for both.
  // Rounds are for what changed since the one before.
  std::vector<std::string> expected = {"one 0", "one 0", "two 3", "two 3", "one 0",
                                       "two 2", "two 1", "one 0", "two 1"};
  EXPECT_EQ(seen, expected);
  EXPECT_EQ(CallCount::made, 7u);
  size_t module_steps = 0;
  for (const StepRecord& r : steps)
    if (r.pass == "drop-call") {
      EXPECT_EQ(r.function, "");
      EXPECT_EQ(r.changed, ++module_steps < 3);
      EXPECT_EQ(r.instructions_before - r.instructions_after, size_t(r.changed));
    }
  EXPECT_EQ(module_steps, 3u);
}

// Steps of legalization are passes like others, and say which of them changed something.
TEST(Pipeline, MixesStepsOfLegalizationWithPasses) {
  PassTable table = standard_passes();
  for (const auto& pass : machine::legalization_passes().all()) EXPECT_TRUE(table.add(*pass).empty());
  auto pipeline = read_pipeline("promote; passing; widths; sweep; branches", table);
  Realm realm;
  auto module = testing::must_read(realm,
                                   "module m\nfunc f(a: i24) -> i24 {\na:\n  s = reserve 4 align 4\n"
                                   "  store a, [s]\n  v = load i24 [s]\n  r = add v, 1\n  return r\n}\n");
  EXPECT_EQ(run_pipeline(*module, *pipeline).size(), 3u);
  machine::Coverage coverage(*native_target(), 0);
  machine::Legalizer legalizer(*module, *native_target(), coverage);
  std::vector<StepRecord> steps;
  EXPECT_TRUE(
      run_pipeline(*module, *pipeline, {.steps = &steps, .surroundings = &legalizer.surroundings()}).empty());
  std::string changed;
  for (const StepRecord& r : steps) changed += r.changed ? r.pass + " " : "";
  EXPECT_EQ(changed, "promote passing widths ");
  EXPECT_EQ(verify(*module).size(), 0u);
  EXPECT_NE(write_text(*module).find("add"), std::string::npos);
}

TEST(Pipeline, IsReadWrittenAndRefusedWithReasons) {
  auto p = read_pipeline(" promote;fold ; until stable { fold; until stable{sweep} };; sweep");
  ASSERT_TRUE(p.good()) << render(p.why());
  EXPECT_EQ(p->text(), "promote; fold; until stable { fold; until stable { sweep } }; sweep");
  for (auto [text, message] : {std::pair("promote; fald", "no pass is called 'fald'"),
                               {"until { fold }", "'until' is not followed"},
                               {"until stable { fold", "do not end"},
                               {"fold }", "no brace was opened"},
                               {"merge { fold; trim }", "a pass over the module stands in"},
                               {"fold { sweep; merge }", "a pass over the module stands in"}}) {
    auto wrong = read_pipeline(text);
    ASSERT_FALSE(wrong.good()) << text;
    EXPECT_NE(wrong.why()[0].message.find(message), std::string::npos) << wrong.why()[0].message;
  }
  EXPECT_EQ(read_pipeline("promote{ fold ;sweep}; trim {tidy}")->text(),
            "promote { fold; sweep }; trim { tidy }");
  EXPECT_EQ(read_pipeline("a; b; c").why().size(), 3u);
  EXPECT_EQ(level_named("-O0")->pipeline().text(), "");
  EXPECT_EQ(level_named("O1")->pipeline().text(), level_named("-O1")->passes);
  EXPECT_EQ(level_named("-O9").why()[0].expected, "-O0, -O1, -O2, -O3, -Os or -Og");
}

TEST(Pipeline, WhatFollowsAPassOverTheModuleIsRunWhereItChanged) {
  Realm realm;
  auto module = testing::must_read(
      realm,
      "module m\nfunc f(n: i32) -> i32 {\na:\n  return n\n}\nfunc g(n: i32) -> i32 {\na:\n  return n\n}\n");
  std::vector<Symbol> seen;
  PassTable table = standard_passes();
  table.add({.name = "to-zero", .doc = "g returns 0", .run = [](ModuleContext& c) {
               Function& f = c.module.function(c.module.find("g"));
               Instruction back = f.terminator(f.entry());
               if (Value zero = f.constant(Type::integer(32), 0); f.operand(back, 0) != zero)
                 f.set(f.operand_slot(back, 0), zero);
             }});
  table.add(
      {.name = "see", .doc = "remembers", .run = [&](FunctionContext& c) { seen.push_back(c.symbol); }});
  auto pipeline = read_pipeline("to-zero { see }", table);
  ASSERT_TRUE(run_pipeline(*module, *pipeline).empty());
  EXPECT_EQ(seen, std::vector{module->find("g")});
  ASSERT_TRUE(run_pipeline(*module, *pipeline).empty());
  EXPECT_EQ(seen.size(), 1u);
}

TEST(Fold, ChoosesByConstantsAndOperationsWithTwoResults) {
  Optimized o = optimized(R"(module m
func f() -> i32, bool, i8 {
enter:
  sum, over = add.over.s 2147483647:i32, 1
  low, high = mul.wide.u 200:i8, 3
  choose 3:i8 { 1: x, 3: y(sum), else: z }
x:
  return 1, over, low
y(b: i32):
  return b, over, high
z:
  return 3, over, low
}
)",
                          "fold; sweep");
  EXPECT_NE(o.text.find("go y(-2147483648)"), std::string::npos) << o.text;
  EXPECT_NE(o.text.find("return b, true, 2"), std::string::npos) << o.text;
  EXPECT_EQ(o.text.find("choose"), std::string::npos) << o.text;
  // What no case has goes the last way.
  Optimized other = optimized(
      "module m\nfunc f() -> i32 {\nenter:\n  choose 9:i8 { 1: x, else: z }\nx:\n  return 1\nz:\n  return "
      "3\n}\n",
      "fold");
  EXPECT_NE(other.text.find("go z"), std::string::npos) << other.text;
}

TEST(Promote, ValuesKeepTheNamesOfTheirSlots) {
  Optimized o = optimized(R"(module m
func f(n: i32) -> i32 {
enter:
  dew = reserve 4 align 4
  rime = reserve 4 align 4
  twice = add n, n
  store twice, [dew]
  add_one = add n, 1
  store add_one, [rime]
  c = lt.s n, 3
  when c go early else late
early:
  store 7:i32, [rime]
  go on
late:
  go on
on:
  a = load i32 [rime]
  d = lt.s a, 9
  when d go again else out
again:
  store 8:i32, [rime]
  go out
out:
  b = load i32 [rime]
  e = load i32 [dew]
  r = add b, e
  return r
}
)",
                          "promote");
  EXPECT_NE(o.text.find("(rime: i32)"), std::string::npos) << o.text;
  EXPECT_NE(o.text.find("(rime_2: i32)"), std::string::npos) << o.text;
}

}  // namespace
}  // namespace porphyry
