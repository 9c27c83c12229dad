// The machine layer: legalization against the evaluator, allocations and their checker, calls and frames,
// W^X.
#include <fmt/format.h>
#include <gtest/gtest.h>

#include <random>

#include <fstream>
#include <sstream>

#include "porphyry/analyze/facts.h"
#include "porphyry/analyze/frequency.h"
#include "porphyry/eval/evaluator.h"
#include "porphyry/ir/clone.h"
#include "porphyry/jit/apart.h"
#include "porphyry/machine/legalize.h"
#include "porphyry/machine/listing.h"
#include "porphyry/render/listing.h"
#include "porphyry/sample/sample.h"
#include "porphyry/targets/targets.h"
#include "support/process.h"
#include "support/read.h"
#include "support/targets.h"

namespace porphyry {
namespace {

using namespace machine;
using testing::must_read;
using testing::target;

// All 65,536 pairs of bytes through every two-operand and one-operand integer operation: the processor gives
// what the evaluator gives, by one loop compiled for each operation. Divisions skip what traps.
TEST(Legalize, BytesOfAllValuesComputeTheSameOnTheProcessor) {
  for (const OperationInfo& row : all_operations()) {
    bool truth = row.result == ResultRule::Truth;
    if (row.layout > Layout::Two || !row.accepts_shape(Shape::Integer)) continue;
    std::string apply = fmt::format("  r = {} a8{}\n", row.name, row.layout == Layout::Two ? ", b8" : "");
    std::string text = fmt::format(R"(module m
func f(out: ptr) {{
enter:
  go pair(0)
pair(k: i64):
  a8  = narrow i8 k
  up  = shr.u k, 8
  b8  = narrow i8 up
  bad = call traps(a8, b8)
  when bad go next else good
good:
{}{}  store s, [out + k]
  go next
next:
  k2   = add k, 1
  more = lt.s k2, 65536
  when more go pair(k2) else done
done:
  return
}}
func traps(a: i8, b: i8) -> bool {{
enter:
  zero  = eq b, 0
  minus = eq b, -1
  least = eq a, -128
  both  = and minus, least
  bad   = or zero, both
  yes   = and bad, {}
  return yes
}}
)",
                                   apply, truth ? "  s = widen.u i8 r\n" : "  s = or r, 0\n",
                                   row.may_trap() ? "true" : "false");
    Realm realm;
    auto module = must_read(realm, text);
    std::vector<uint8_t> by_evaluator(65536);
    Evaluator e(*module);
    Datum p = e.attach(by_evaluator, "out");
    ASSERT_EQ(e.call(module->find("f"), {&p, 1}).end, Outcome::End::Result);
    for (Features features : {Features(0), target().usual_features}) {
      auto jit = Jit::compile(*module, target(), {.features = features, .check_allocation = true});
      ASSERT_TRUE(jit.good()) << render(jit.why());
      std::vector<uint8_t> by_processor(65536);
      (*(*jit)->function<void(void*)>("f"))(by_processor.data());
      for (size_t k = 0; k < 65536; ++k)
        ASSERT_EQ(by_processor[k], by_evaluator[k]) << row.name << " of " << (k & 255) << " and " << (k >> 8);
    }
  }
}

TEST(Legalize, NarrowDivisionsTrapJustWhenTheyShould) {
  for (const char* op : {"div.s", "div.u", "rem.s", "rem.u"})
    for (int bits : {8, 16}) {
      Realm realm;
      auto module = must_read(
          realm,
          fmt::format(
              "module m\nfunc f(a: i{0}, b: i{0}) -> i{0} {{\nenter:\n  r = {1} a, b\n  return r\n}}\n", bits,
              op));
      auto jit = Jit::compile(*module, target());
      auto caller = Caller::make(**jit, "f", target());
      uint64_t least = uint64_t(1) << (bits - 1), minus = 2 * least - 1;
      for (auto [a, b] : {std::pair(least, minus),
                          {least, uint64_t(0)},
                          {least + 1, minus},
                          {minus, minus},
                          {uint64_t(7), uint64_t(2)}}) {
        Evaluator e(*module);
        Datum arguments[] = {{a, 0}, {b, 0}};
        Outcome meant = e.call(module->find("f"), arguments);
        NativeOutcome is = (*caller)->call_apart(std::vector<uint64_t>{a, b});
        EXPECT_EQ(is.end == NativeOutcome::End::Trap, meant.end == Outcome::End::Trap)
            << op << bits << " " << a << " " << b;
        if (meant.end == Outcome::End::Result) {
          EXPECT_EQ(is.results[0], meant.results[0].bits);
        }
      }
    }
}

// ---- allocation -------------------------------------------------------------------------------------------

struct Allocated {
  Code before;
  Allocation after;
};

std::vector<Allocated> allocations(uint64_t seed) {
  Realm realm;
  Sample program = make_sample(realm, {.seed = seed, .layout = MemoryLayout{}});
  auto module = clone(*program.module);
  Coverage coverage(target(), target().usual_features);
  std::vector<Allocated> out;
  legalize(*module, target(), coverage);
  for (Symbol s : module->functions()) {
    auto selected = select(*module, s, RuleIndex(target(), target().usual_features));
    EXPECT_TRUE(selected.good()) << render(selected.why());
    out.push_back({selected->code, allocate(selected->code, target())});
  }
  return out;
}

TEST(Allocate, LeavesNoVirtualRegisterAndPassesItsChecker) {
  size_t spilled = 0;
  for (uint64_t seed = 500; seed < 560; ++seed)
    for (const Allocated& a : allocations(seed)) {
      Diagnostics wrong = check_allocation(a.before, a.after, target());
      ASSERT_TRUE(wrong.empty()) << "seed " << seed << "\n" << render(wrong);
      for (const CodeLine& i : a.after.code.code)
        each_register(a.after.code, i, [&](Register r, bool, bool) { ASSERT_TRUE(is_physical(r)); });
      spilled += a.after.rounds > 1;
    }
  EXPECT_GT(spilled, 10u);  // or the checker has seen nothing hard
}

// A checker that accepts everything would be worthless: one register of a right allocation is changed to one
// that holds something else.
TEST(Allocate, CheckerFindsPlantedMistakes) {
  std::mt19937_64 random(1);
  size_t planted = 0, found = 0;
  for (uint64_t seed = 500; seed < 560; ++seed)
    for (Allocated& a : allocations(seed)) {
      for (int tries = 0; tries < 20; ++tries) {
        Allocation wrong = a.after;
        CodeLine& i = wrong.code.code[random() % wrong.code.code.size()];
        if (i.operand_count == 0) continue;
        size_t k = i.first_operand + random() % i.operand_count;
        CodeOperand& o = wrong.code.operands[k];
        // Reads only: a write into another register may be harmless when nobody reads it.
        if (o.kind != OperandKind::Register || !o.read || o.written || !is_virtual(wrong.virtual_of[k]))
          continue;
        o.reg = o.reg < 16 ? (o.reg + 1) % 16 : 16 + (o.reg - 15) % 16;
        ++planted;
        found += !check_allocation(a.before, wrong, target()).empty();
      }
    }
  EXPECT_GT(planted, 300u);
  EXPECT_GT(found * 100, planted * 97);  // a few land in a register that holds the same value
}

// ---- calls and frames -------------------------------------------------------------------------------------

TEST(Convention, PassesWhatTheHostCompilerPasses) {
  Realm realm;
  auto module = must_read(realm, R"(module m
extern func host(i32, f64, i64, f32, ptr, i64, i64, i64, i8, i64, f64, f64, f64, f64, f64, f64, f64, f64) -> f64
func f(a: i32, b: f64, c: i64, d: f32, e: ptr, g: i64, h: i64, i: i64, j: i8, k: i64, l: f64, m: f64, n: f64, o: f64, p: f64, q: f64, r: f64, s: f64) -> f64 {
enter:
  a2 = add a, 1
  x  = call host(a2, b, c, d, e, g, h, i, j, k, l, m, n, o, p, q, r, s)
  y  = add x, s
  return y
}
)");
  using F = double(int32_t, double, int64_t, float, void*, int64_t, int64_t, int64_t, int8_t, int64_t, double,
                   double, double, double, double, double, double, double);
  F* host = [](int32_t a, double b, int64_t c, float d, void* e, int64_t g, int64_t h, int64_t i, int8_t j,
               int64_t k, double l, double m, double n, double o, double p, double q, double r,
               double s) -> double {
    // The stack is aligned as the convention says, or this faults or misreads.
    alignas(16) volatile double aligned[2] = {a + b * 2 + double(c) * 3 + d * 4 + *static_cast<int*>(e) * 5,
                                              double(g + 7 * h + 11 * i + 13 * j + 17 * k)};
    EXPECT_EQ(reinterpret_cast<uintptr_t>(aligned) % 16, 0u);
    return aligned[0] + aligned[1] + l + 2 * m + 3 * n + 4 * o + 5 * p + 6 * q + 7 * r + 8 * s;
  };
  auto jit =
      Jit::compile(*module, target(), {}, [&](std::string_view) { return reinterpret_cast<void*>(host); });
  ASSERT_TRUE(jit.good()) << render(jit.why());
  auto f = (*jit)->function<F>("f");
  ASSERT_TRUE(f.good()) << render(f.why());
  int five = 5;
  double is = (*f)(1, 2, 3, 4, &five, 6, 7, 8, -9, 10, 11, 12, 13, 14, 15, 16, 17, 18);
  EXPECT_EQ(is, host(2, 2, 3, 4, &five, 6, 7, 8, -9, 10, 11, 12, 13, 14, 15, 16, 17, 18) + 18);
}

TEST(Frame, ObjectsAreAlignedAndApart) {
  Realm realm;
  auto module = must_read(realm, R"(module m
func f(out: ptr) {
enter:
  a = reserve 3 align 1
  b = reserve 40 align 64
  c = reserve 16 align 16
  d = reserve 8 align 4096
  store a, [out]
  store b, [out + 8]
  store c, [out + 16]
  store d, [out + 24]
  return
}
)");
  auto jit = Jit::compile(*module, target());
  ASSERT_TRUE(jit.good()) << render(jit.why());
  uint64_t at[4];
  (*(*jit)->function<void(void*)>("f"))(at);
  EXPECT_EQ(at[1] % 64, 0u);
  EXPECT_EQ(at[2] % 16, 0u);
  EXPECT_EQ(at[3] % 4096, 0u);
  const uint64_t sizes[] = {3, 40, 16, 8};
  for (int x = 0; x < 4; ++x)
    for (int y = 0; y < x; ++y) EXPECT_TRUE(at[x] + sizes[x] <= at[y] || at[y] + sizes[y] <= at[x]);
}

// What is waited for goes first; what does not depend on it fills the wait.
TEST(Schedule, FillsTheWaitForWhatTakesLong) {
  Realm realm;
  auto module = must_read(realm, R"(module m
func f(a: f64, b: f64, c: f64, d: f64, p: ptr) -> f64 {
enter:
  z = mul c, d
  w = add z, d
  x = div a, b
  y = add x, c
  store w, [p]
  r = add y, w
  return r
}
)");
  auto order = [&](bool schedule) {
    auto lowered = lower(*module, testing::in_order(), {.check_allocation = true, .schedule = schedule});
    auto listing = make_listing(*lowered, lowered->functions[0], target());
    std::vector<std::string> out;
    for (const auto& line : listing.blocks[0].lines) out.push_back(line.text.substr(0, line.text.find(' ')));
    return out;
  };
  auto place = [](const std::vector<std::string>& all, const char* name) {
    return std::find(all.begin(), all.end(), name) - all.begin();
  };
  auto plain = order(false), scheduled = order(true);
  EXPECT_GT(place(plain, "divsd"), place(plain, "mulsd"));
  EXPECT_LT(place(scheduled, "divsd"), place(scheduled, "mulsd"));
  EXPECT_EQ(plain.size(), scheduled.size());
  for (bool schedule : {false, true}) {
    auto jit = Jit::compile(*module, testing::in_order(), {.schedule = schedule});
    double out = 0;
    EXPECT_EQ((*(*jit)->function<double(double, double, double, double, void*)>("f"))(7, 2, 3, 4, &out),
              22.5);
    EXPECT_EQ(out, 16);
  }
}

// Jumps of every distance around the point where short ones end.
TEST(Emit, JumpsReachTheirBlocksAtEveryDistance) {
  for (int padding = 20; padding < 40; ++padding) {
    std::string text =
        "module m\nfunc f(c: bool, p: ptr) -> i32 {\nenter:\n  when c go near else far\nnear:\n";
    for (int k = 0; k < padding; ++k) text += fmt::format("  store {}:i8, [p + {}]\n", k, k);
    text += "  go last(1)\nfar:\n  go last(2)\nlast(r: i32):\n  return r\n}\n";
    Realm realm;
    auto module = must_read(realm, text);
    auto jit = Jit::compile(*module, target());
    auto f = (*jit)->function<int32_t(bool, void*)>("f");
    uint8_t bytes[64] = {};
    EXPECT_EQ((*f)(true, bytes), 1);
    EXPECT_EQ((*f)(false, bytes), 2);
    EXPECT_EQ(bytes[padding - 1], padding - 1);
  }
}

// A loop whose ways back give its three values to each other in any order, each order as often as it is kept:
// the copies are no more than a permutation in place takes, and the values are right.
TEST(Allocate, ValuesThatChangePlacesTakeNoMoreCopiesThanThat) {
  size_t copies = 0, least = 0;
  for (uint64_t seed = 0; seed < 40; ++seed) {
    std::mt19937_64 random(seed);
    std::string text =
        "module m\nfunc f(p: ptr, n: i64) -> i64 {\nenter:\n  go entry(0, 1, 20, 300)\nentry(i: i64, a: i64, "
        "b: i64, c: "
        "i64):\n  x = load i8 [p + i]\n  i2 = add i, 1\n  choose x { ";
    std::string blocks;
    for (unsigned k = 0; k < 6; ++k) {
      unsigned order[] = {0, 1, 2};
      if (k % 2) std::shuffle(order, std::end(order), random);
      text += fmt::format("{}: w{}, ", k, k);
      blocks += fmt::format("w{0}:\n  s{0} = add {1}, {0}\n  go look(", k, "abc"[order[0]]);
      blocks += fmt::format("s{}, {}, {})\n", k, "abc"[order[1]], "abc"[order[2]]);
      unsigned fixed = 0;
      for (unsigned j = 0; j < 3; ++j) fixed += order[j] == j;
      least += fixed == 3 ? 0 : 3 - fixed + 1;
    }
    text += "else: look(a, b, c) }\n" + blocks +
            "look(l: i64, m: i64, o: i64):\n  more = lt.s i2, n\n  when more go entry(i2, l, m, o) else "
            "done\ndone:\n  d = sub l, "
            "m\n  e = mul d, o\n  return e\n}\n";
    Realm realm;
    auto module = must_read(realm, text);
    auto lowered = lower(*module, target(), {.check_allocation = true});
    ASSERT_TRUE(lowered.good()) << text << render(lowered.why());
    for (const EmittedLine& l : lowered->functions[0].lines) copies += l.role == Role::Move;
    auto jit = Jit::compile(*module, target());
    auto f = (*jit)->function<int64_t(const void*, int64_t)>("f");
    std::vector<uint8_t> bytes(50);
    for (uint8_t& b : bytes) b = static_cast<uint8_t>(random() % 7);
    Evaluator evaluator(*module);
    Datum given[] = {evaluator.attach(bytes, "bytes"), {bytes.size(), 0}};
    EXPECT_EQ(static_cast<uint64_t>((*f)(bytes.data(), 50)),
              evaluator.call(module->find("f"), given).results[0].bits)
        << text;
  }
  EXPECT_LE(copies, least);
}

// Loops of several blocks, by the branches that a seed makes, with how often each way was taken; the last one
// goes back. All but the first stand in any order.
std::string branchy_loop(uint64_t seed, unsigned blocks) {
  std::mt19937_64 random(seed);
  auto below = [&](unsigned n) { return static_cast<unsigned>(random() % n); };
  std::vector<std::string> texts;
  for (unsigned b = 0; b + 1 < blocks; ++b) {
    std::string& text = texts.emplace_back(fmt::format("b{0}:\n", b));
    for (unsigned k = below(4); k > 0; --k) text += fmt::format("  store {}:i8, [p + {}]\n", b, k + 7 * b);
    text += fmt::format(
        "  v{0} = load i64 [p + {1}] volatile\n  c{0} = lt.s v{0}, n\n  when c{0} {2} go b{3} else b{4} "
        "{5}\n",
        b, 8 * b, 1 + below(99), b + 1 + below(blocks - b - 1), b + 1, 1 + below(99));
  }
  texts.push_back(fmt::format(
      "b{0}:\n  v{0} = load i64 [p] volatile\n  c{0} = lt.s v{0}, n\n  when c{0} 90 go b0 else out 10\n",
      blocks - 1));
  std::shuffle(texts.begin() + 1, texts.end(), random);
  return fmt::format("module m\nfunc f(n: i64, p: ptr) {{\nenter:\n  go b0\n{}out:\n  return\n}}\n",
                     fmt::join(texts, ""));
}

// Jumps of inner loops, with the line before them, neither cross nor end a line of 32 bytes, but where more
// than eight bytes would have to be put before them.
TEST(Emit, JumpsOfInnerLoopsStayWithinLines) {
  size_t jumps = 0, moved = 0;
  for (uint64_t seed = 0; seed < 200; ++seed) {
    Realm realm;
    auto lowered = lower(*must_read(realm, branchy_loop(seed, 6)), target(), {.align_loops = true});
    ASSERT_TRUE(lowered.good()) << render(lowered.why());
    const CompiledFunction& f = lowered->functions[0];
    for (size_t k = 1; k < f.lines.size(); ++k) {
      const EmittedLine &test = f.lines[k - 1], &jump = f.lines[k];
      moved += jump.role == Role::Padding && jump.size > 0 && test.role == Role::Program;
      const bool alone = test.to == EmittedLine::To::Block || test.role == Role::Padding;
      if (jump.to != EmittedLine::To::Block || alone) continue;
      auto place = std::find_if(f.blocks.begin(), f.blocks.end(),
                                [&](const auto& b) { return jump.offset < b.offset; });
      if (std::prev(place)->depth == 0) continue;
      ++jumps;
      const bool crosses = test.offset / 32 != (jump.offset + jump.size) / 32;
      EXPECT_TRUE(!crosses || 32 - test.offset % 32 > 8) << seed << ": " << jump.offset;
    }
  }
  EXPECT_GT(jumps, 900u);
  EXPECT_GT(moved, 100u);
}

// Numbers that both ways out of a branch put into the same registers stand once, in front of it; where an
// operand of the comparison is in the way, or the numbers differ, they stay.
TEST(Emit, WhatBothWaysBeginWithStandsOnce) {
  for (unsigned equal = 0; equal <= 3; ++equal)
    for (const char* condition : {"lt.s n, m", "eq n, 0", "ne m, 5"}) {
      std::string one, other;
      for (unsigned k = 0; k < 3; ++k) {
        one += fmt::format("{}{}", k ? ", " : "", 1001 + k);
        other += fmt::format("{}{}", k ? ", " : "", k < equal ? 1001 + k : 2001 + k);
      }
      const std::string text = fmt::format(R"(module m
func f(n: i64, m: i64) -> i64 {{
enter:
  c = {0}
  when c go a({1}) else b({2})
a(x: i64, y: i64, z: i64):
  x2 = mul x, n
  y2 = sub y, x2
  z2 = mul z, y2
  return z2
b(u: i64, v: i64, w: i64):
  u2 = mul u, n
  v2 = sub v, u2
  w2 = mul w, v2
  w3 = add w2, 1
  return w3
}}
)",
                                           condition, one, other);
      Realm realm;
      auto module = must_read(realm, text);
      auto lowered = lower(*module, target(), {.check_allocation = true});
      ASSERT_TRUE(lowered.good()) << render(lowered.why());
      const std::string code = render(make_listing(*lowered, lowered->functions[0], target()), false, false);
      for (unsigned k = 0; k < 3; ++k) {
        const uint32_t number = 1001 + k;
        const auto* word = reinterpret_cast<const uint8_t*>(&number);
        const auto& bytes = lowered->functions[0].bytes;
        size_t times = 0;
        for (auto at = bytes.begin(); (at = std::search(at, bytes.end(), word, word + 4)) != bytes.end();
             ++at)
          ++times;
        EXPECT_EQ(times, 1u) << code;
      }
      auto jit = Jit::compile(*module, target());
      auto f = (*jit)->function<int64_t(int64_t, int64_t)>("f");
      for (int64_t n : {-3, 0, 4})
        for (int64_t m : {-7, 0, 5}) {
          Datum given[] = {{static_cast<uint64_t>(n), 0}, {static_cast<uint64_t>(m), 0}};
          EXPECT_EQ(static_cast<uint64_t>((*f)(n, m)),
                    Evaluator(*module).call(module->find("f"), given).results[0].bits)
              << code;
        }
    }
}

// A part of a register is widened only where something may stand above it; what says so may be in a block
// before.
TEST(Emit, PartsThatNothingStandsAboveAreNotWidened) {
  struct Case {
    const char *operation, *type;
    bool widened;
  };
  for (const Case& c : {Case{"and b, 15", "i8", false},
                        {"sub b, 15", "i8", true},
                        {"or b, 15", "i8", true},
                        {"and b, 4095", "i16", false},
                        {"add b, 4095", "i16", true}}) {
    const std::string text = fmt::format(R"(module m
layout little
func f(p: ptr) -> i64 {{
enter:
  b = load {1} [p]
  m = {0}
  c = le.u m, 11
  when c go wide else out(-1)
wide:
  w = widen.u i64 m
  s = shl w, 3
  go out(s)
out(r: i64):
  return r
}}
)",
                                         c.operation, c.type);
    Realm realm;
    auto module = must_read(realm, text);
    auto lowered = lower(*module, target(), {.check_allocation = true});
    ASSERT_TRUE(lowered.good()) << render(lowered.why());
    const FunctionListing listing = make_listing(*lowered, lowered->functions[0], target());
    size_t widened = 0;
    for (const ListingBlock& b : listing.blocks)
      for (const ListingLine& l : b.lines)
        widened += l.text.starts_with("movzx") && l.text.find('[') == l.text.npos;
    EXPECT_EQ(widened != 0, c.widened) << render(listing, false, false);
    auto jit = Jit::compile(*module, target());
    auto f = (*jit)->function<int64_t(const void*)>("f");
    for (unsigned n = 0; n < 65536; n += 7) {
      std::vector<uint8_t> bytes{static_cast<uint8_t>(n), static_cast<uint8_t>(n >> 8)};
      Evaluator evaluator(*module);
      Datum given[] = {evaluator.attach(bytes, "bytes")};
      ASSERT_EQ(static_cast<uint64_t>((*f)(bytes.data())),
                evaluator.call(module->find("f"), given).results[0].bits);
    }
  }
}

// How much of a loop's way falls through, against the best of all orders of its blocks, and that it is in one
// piece.
TEST(Layout, LoopsFallThroughNearlyAsMuchAsTheyCan) {
  double is = 0, best = 0;
  for (uint64_t seed = 0; seed < 300; ++seed) {
    Realm realm;
    auto lowered = lower(*must_read(realm, branchy_loop(seed, 6)), target(), {});
    ASSERT_TRUE(lowered.good()) << render(lowered.why());
    const Function& f = lowered->legal->function(lowered->functions[0].symbol);
    Facts facts(f);
    const Loops& loops = facts.get<Loops>();
    Frequencies frequencies(f, facts.get<Dominators>(), loops);
    auto falls = [&](Block a, Block b) {
      double times = 0, all = 0;
      for (Edge e : f.edges(a)) {
        all += double(f.weight(e));
        if (f.to(e) == b) times += double(f.weight(e));
      }
      return times / all * frequencies.of(a);
    };
    auto sum = [&](const std::vector<Block>& order) {
      double out = 0;
      for (size_t k = 1; k < order.size(); ++k) out += falls(order[k - 1], order[k]);
      return out;
    };
    std::vector<Block> order;
    size_t first = 0, last = 0;
    for (size_t k = 0; k < lowered->functions[0].blocks.size(); ++k)
      if (Block b = lowered->functions[0].blocks[k].origin; loops.depth(b) && !frequencies.unlikely(b)) {
        if (order.empty()) first = k;
        last = k;
        order.push_back(b);
      }
    EXPECT_EQ(last - first + 1, order.size()) << seed;
    is += sum(order);
    std::sort(order.begin() + 1, order.end());
    double most = 0;
    do most = std::max(most, sum(order));
    while (std::next_permutation(order.begin() + 1, order.end()));
    best += most;
  }
  EXPECT_GT(is, 0.95 * best) << is / best;
}

// Helpers are local: a program may use their names for what it likes.
TEST(Legalize, HelpersStandBesideWhateverTheirNamesMeanToTheProgram) {
  Realm realm;
  const char* use = "func f(a: f64, b: f64) -> f64 {\nenter:\n  r = rem a, b\n  return r\n}\n";
  for (std::string taken :
       {"func porphyry_rem_f64(a: f64, b: f64) -> f64 {\nenter:\n  return a\n}\n",
        "data porphyry_parts holds i8: 1\n", "local func porphyry_rem_f64() {\nenter:\n  return\n}\n"}) {
    auto module = must_read(realm, "module m\n" + taken + use);
    auto jit = Jit::compile(*module, target());
    ASSERT_TRUE(jit.good()) << taken << render(jit.why());
    EXPECT_EQ((*(*jit)->function<double(double, double)>("f"))(-7.5, 2.0), -1.5);
  }
}

// ---- whole modules against the system's tools -------------------------------------------------------------

// The code section that the system assembler makes of our assembly text, byte for byte, for random programs.
TEST(Assembly, TheSystemAssemblerMakesTheSameBytes) {
  testing::TemporaryFolder folder;
  for (uint64_t seed = 900; seed < 925; ++seed) {
    Realm realm;
    Sample program = make_sample(realm, {.seed = seed, .layout = MemoryLayout{}});
    auto lowered = lower(*program.module, target(), {.align_loops = seed % 2 == 0});
    ASSERT_TRUE(lowered.good()) << render(lowered.why());
    std::string source = folder.write("m.s", render_assembly(*lowered, target()));
    auto made = testing::run_command(fmt::format(
        "as -o {0}.o {0} 2>&1 && ld -r -o {0}.r {0}.o 2>&1 && objcopy -O binary -j .text {0}.o {0}.bin 2>&1",
        source));
    ASSERT_EQ(made.status, 0) << made.out;
    std::string bytes = testing::contents(source + ".bin");
    size_t at = 0;
    for (const CompiledFunction& f : lowered->functions) {
      at = (at + f.align - 1) / f.align * f.align;
      ASSERT_LE(at + f.bytes.size(), bytes.size());
      for (const EmittedLine& l : f.lines) {
        // Distances to other symbols are left to the linker by both; what the assembler puts there does not
        // count.
        std::vector<uint8_t> ours(f.bytes.begin() + l.offset, f.bytes.begin() + l.offset + l.size),
            theirs(bytes.begin() + long(at + l.offset), bytes.begin() + long(at + l.offset + l.size));
        for (const Fixup& fix : f.fixups)
          if (fix.offset >= l.offset && fix.offset < l.offset + l.size)
            for (uint32_t k = 0; k < 4; ++k)
              ours[fix.offset - l.offset + k] = theirs[fix.offset - l.offset + k] = 0;
        ASSERT_EQ(ours, theirs) << "seed " << seed << ", " << f.name << " at " << l.offset << ": "
                                << spell(target(), instruction_at(target(), f, l));
      }
      at += f.bytes.size();
    }
  }
}

// A C++ program linked with our assembly text calls it and is called by it.
TEST(Assembly, LinksIntoACxxProgram) {
  testing::TemporaryFolder folder;
  Realm realm;
  auto module = must_read(realm, R"(module m
data counter holds i32: 40
data names const holds bytes: "post\0"
data where holds address: names, counter
extern func reading(i32) -> f64
extern data offset
func mean(n: i32) -> f64 {
enter:
  go sum(0, 0.0)
sum(i: i32, total: f64):
  r  = call reading(i)
  t  = add total, r
  i2 = add i, 1
  c  = lt.s i2, n
  when c go sum(i2, t) else out
out:
  count = address of counter
  old   = load i32 [count]
  new   = add old, 2
  store new, [count]
  d = to_float.s f64 n
  m = div t, d
  p = address of offset
  o = load f64 [p]
  s = add m, o
  return s
}
)");
  auto lowered = lower(*module, target());
  ASSERT_TRUE(lowered.good()) << render(lowered.why());
  std::string source = folder.write("m.s", render_assembly(*lowered, target()));
  std::string host = folder.write("host.cpp", R"(#include <cstdio>
extern "C" { double mean(int); extern int counter; extern const char* where[2]; double offset = 0.25; double reading(int i) { return i * 1.5; } }
int main() { double m = mean(5); std::printf("%g %d %s %d\n", m, counter, where[0], *(const int*)where[1]); })");
  auto ran = testing::run_command(fmt::format("g++ -o {1}.out {0} {1} 2>&1 && {1}.out 2>&1", host, source));
  EXPECT_EQ(ran.status, 0) << ran.out;
  EXPECT_EQ(ran.out, "3.25 42 post 42\n");
}

TEST(Listing, SaysWhereThingsAreAndCountsThem) {
  Realm realm;
  auto module = must_read(realm, R"(module m
func f(a: i32, p: ptr, x: f32, b: bool) -> i32 {
enter:
  go loop(0, a)
loop(i: i32, s: i32):
  v    = load i32 [p]       @1:2:3
  s2   = add s, v           @1:2:9
  store s2, [p + 4]
  i2   = add i, 1
  more = lt.s i2, a
  when more go loop(i2, s2) else out
out:
  return s2
}
)");
  auto lowered = lower(*module, target());
  FunctionListing l = make_listing(*lowered, lowered->functions[0], target());
  EXPECT_EQ(l.signature, "(i32, ptr, f32, bool) -> i32");
  std::vector<std::string> where;
  for (const auto& p : l.parameters) where.push_back(p.name + " " + p.where);
  EXPECT_EQ(where, (std::vector<std::string>{"a edi", "p rsi", "x xmm0", "b dl"}));
  EXPECT_EQ(l.results[0].where, "eax");
  EXPECT_EQ(l.totals.loads, 1u);
  EXPECT_EQ(l.totals.stores, 1u);
  EXPECT_EQ(l.totals.bytes, lowered->functions[0].bytes.size());
  std::string text = render(l);
  EXPECT_NE(text.find("| loop:"), std::string::npos) << text;
  EXPECT_NE(text.find("  1:2:9"), std::string::npos) << text;
  // The folded load is part of the addition.
  EXPECT_NE(text.find("dword ptr [rsi]"), std::string::npos) << text;
}

}  // namespace
}  // namespace porphyry
