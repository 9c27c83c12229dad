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
#include "support/process.h"
#include "support/read.h"

namespace porphyry {
namespace {

using Lines = std::vector<std::string>;
using Side = DifferenceLine::Side;

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

// ---- planted faults
// ---------------------------------------------------------------------------------------------

constexpr const char* victim = R"(module victim

data seen align 8 holds i64: 0

func numbers(a: i32, b: i32, c: i8) -> i32, i32, i32 {
enter:
  s  = add a, b
  d  = sub s, 7
  m  = mul d, 3
  n  = and m, a
  o  = or n, b
  x  = xor o, 21
  l  = shl x, 3
  u  = shr.u l, 2
  v  = shr.s l, 1
  w  = widen.s i32 c
  z  = widen.u i32 c
  lo = min.s u, v
  hi = max.s w, b
  lu = min.u w, b
  hu = max.u a, w
  t1 = add lo, hi
  t2 = add lu, hu
  t3 = xor z, u
  r  = rotl t1, 5
  q  = neg t2
  return r, q, t3
}

func divided(a: i32, b: i32) -> i32, i32, i32, i32 {
enter:
  e  = or b, 1
  p  = and e, 31
  q  = div.s a, p
  r  = rem.s a, p
  qu = div.u a, p
  ru = rem.u a, p
  return q, r, qu, ru
}

func compared(a: i32, b: i32) -> i32 {
enter:
  lt = lt.s a, b
  lu = lt.u a, b
  le = le.s a, 4
  ge = ge.u b, 3
  eq = eq a, b
  x  = and lt, le
  y  = or lu, ge
  p  = pick x, a, 77
  w  = widen.u i32 y
  k  = widen.u i32 eq
  s  = sub p, w
  r  = add s, k
  return r
}

func stored(at: ptr, n: i32) -> i32 {
enter:
  some = and n, 15
  go round(0, 0)
round(k: i32, sum: i32):
  deep = widen.u i64 k
  p    = at [at + deep*4]
  v    = load i32 [p + 4]
  w    = load i16 [p]
  x    = widen.s i32 w
  both = add v, x
  store both, [p + 8]
  sum2 = add sum, both
  k2   = add k, 1
  more = le.s k2, some
  when more go round(k2, sum2) else done
done:
  place = address of seen
  wide  = widen.s i64 sum2
  store wide, [place]
  return sum2
}

func measured(a: f64, b: f64) -> f64, f64, i32 {
enter:
  s = add a, b
  d = sub s, 2.5
  p = mul d, a
  m = min p, b
  g = lt a, b
  f = floor m
  w = pick g, f, p
  i = to_int.s i32 f
  return w, m, i
}
)";

using Plant = std::function<bool(Module&, Function&)>;
struct Fault {
  std::string name;
  Plant plant;  // whether it was planted
};

template <typename Visit>  // until it says true
bool first_instruction(Function& f, Visit visit) {
  for (Block b : f.blocks())
    for (Instruction i : f.instructions(b))
      if (visit(i)) return true;
  return false;
}

// The first instruction of one operation becomes another one.
Fault instead(Op from, Op to) {
  return {fmt::format("{} instead of {}", info(to).name, info(from).name), [=](Module&, Function& f) {
            return first_instruction(f, [&](Instruction i) {
              if (f.op(i) != from) return false;
              std::vector<Value> operands;
              for (Value v : f.operands(i)) operands.push_back(v);
              Type t = f.type(f.result(i));
              Instruction now = f.insert_before(i, {.op = to, .operands = operands, .results = {&t, 1}});
              f.replace_uses(f.result(i), f.result(now));
              f.erase(i);
              return true;
            });
          }};
}

Fault swapped(Op op, size_t a, size_t b) {
  return {fmt::format("operands {} and {} of {} change places", a, b, info(op).name),
          [=](Module&, Function& f) {
            return first_instruction(f, [&](Instruction i) {
              if (f.op(i) != op) return false;
              Value one = f.operand(i, a), two = f.operand(i, b);
              f.set(f.operand_slot(i, a), two);
              f.set(f.operand_slot(i, b), one);
              return one != two;
            });
          }};
}

// The first constant operand of an operation is one more.
Fault one_more(Op op) {
  return {fmt::format("a constant of {} is one more", info(op).name), [=](Module&, Function& f) {
            return first_instruction(f, [&](Instruction i) {
              for (size_t k = 0; f.op(i) == op && k < f.operand_count(i); ++k)
                if (Value v = f.operand(i, k); f.is_constant(v) && f.type(v).is_integer()) {
                  f.set(f.operand_slot(i, k), f.constant(f.type(v), f.constant_word(v) + 1));
                  return true;
                }
              return false;
            });
          }};
}

Fault moved_address(Op op, int64_t by) {
  return {fmt::format("the address of a {} is {} bytes off", info(op).name, by), [=](Module&, Function& f) {
            return first_instruction(f, [&](Instruction i) {
              if (f.op(i) != op) return false;
              Address a = f.address(i);
              a.offset += by;
              f.set_address(i, a);
              return true;
            });
          }};
}

Fault dropped(Op op) {
  return {fmt::format("a {} is lost", info(op).name), [=](Module&, Function& f) {
            return first_instruction(f, [&](Instruction i) {
              if (f.op(i) != op) return false;
              for (Value v : f.results(i)) f.replace_uses(v, f.operand(i, 0));
              f.erase(i);
              return true;
            });
          }};
}

std::vector<Fault> faults() {
  std::vector<Fault> out;
  for (auto [from, to] : std::initializer_list<std::pair<Op, Op>>{
           {Op::Add, Op::Sub},   {Op::Sub, Op::Add},       {Op::Mul, Op::Add},       {Op::And, Op::Or},
           {Op::Or, Op::Xor},    {Op::Xor, Op::Or},        {Op::Shl, Op::ShrU},      {Op::ShrU, Op::ShrS},
           {Op::ShrS, Op::ShrU}, {Op::WidenS, Op::WidenU}, {Op::WidenU, Op::WidenS}, {Op::MinS, Op::MinU},
           {Op::MaxS, Op::MaxU}, {Op::MinU, Op::MinS},     {Op::MaxU, Op::MaxS},     {Op::RotL, Op::RotR},
           {Op::Neg, Op::Not},   {Op::DivS, Op::DivU},     {Op::DivU, Op::DivS},     {Op::RemS, Op::RemU},
           {Op::RemU, Op::RemS}, {Op::DivS, Op::RemS},     {Op::LtS, Op::LeS},       {Op::LtS, Op::LtU},
           {Op::LtU, Op::LtS},   {Op::LeS, Op::LtS},       {Op::GeU, Op::GtU},       {Op::GeU, Op::GeS},
           {Op::Eq, Op::Ne},     {Op::Min, Op::Max},       {Op::Floor, Op::Ceil},    {Op::Lt, Op::Ge}})
    out.push_back(instead(from, to));
  out.push_back(swapped(Op::Sub, 0, 1));
  out.push_back(swapped(Op::Pick, 1, 2));
  out.push_back(swapped(Op::DivS, 0, 1));
  for (Op op : {Op::Sub, Op::Mul, Op::Shl, Op::And, Op::LeS}) out.push_back(one_more(op));
  out.push_back(moved_address(Op::Load, 4));
  out.push_back(moved_address(Op::Store, -4));
  out.push_back(dropped(Op::Store));
  out.push_back(dropped(Op::Neg));
  return out;
}

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
    auto report = check_passes(*module, *pipeline, {});
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
  for (uint64_t seed = 1; seed <= 10; ++seed) {
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
