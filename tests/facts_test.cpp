// What passes rest on: facts of integers against all values they may have, alias answers and versions of
// memory against runs of the program, effects of calls, kinds that grow, and the framework's checks of
// passes.
#include <fmt/format.h>
#include <gtest/gtest.h>

#include <map>
#include <random>

#include "porphyry/analyze/memory_flow.h"
#include "porphyry/analyze/number.h"
#include "porphyry/eval/evaluator.h"
#include "porphyry/formats/packed.h"
#include "porphyry/ir/words.h"
#include "porphyry/optimize/permit.h"
#include "porphyry/passes/passes.h"
#include "porphyry/print/print.h"
#include "porphyry/render/notes.h"
#include "support/measure.h"
#include "support/read.h"

namespace porphyry {
namespace {

// ---- numbers ----------------------------------------------------------------------------------------------

// Facts of four bits: bounds and known bits drawn at random, with all values that satisfy them.
Number random_number(std::mt19937_64& random, unsigned width) {
  for (;;) {
    Number n = Number::any(width);
    if (random() % 2) n.low = random() % 16, n.high = random() % 16;
    if (random() % 2) n.least = int(random() % 16) - 8, n.greatest = int(random() % 16) - 8;
    if (random() % 2) n.ones = random() & random() & 15, n.zeros = random() & random() & 15 & ~n.ones;
    for (Bits v = 0; v < 16; ++v)
      if (n.has(v)) return n.settled();
  }
}

TEST(Numbers, HoldWhateverOperationsCompute) {
  std::mt19937_64 random(3);
  const unsigned width = 4;
  Type t = Type::integer(width);
  size_t precise = 0, all = 0;
  for (const OperationInfo& row : all_operations()) {
    bool fits = row.accepts_shape(Shape::Integer) &&
                (row.layout == Layout::One || row.layout == Layout::Two || row.layout == Layout::Pick);
    if (!fits || row.op == Op::ReverseBytes) continue;
    Type result = row.result == ResultRule::Truth ? Type::boolean() : t;
    for (size_t round = 0; round < testing::part_of(400); ++round) {
      std::vector<Number> in;
      if (row.layout == Layout::Pick) in.push_back(Number::any(1));
      while (in.size() < row.arity()) in.push_back(random_number(random, width));
      Number out = compute_number(row.op, result, in);
      std::vector<Bits> values(in.size());
      size_t seen = 0, allowed = 0;
      std::map<Bits, bool> results;
      std::function<void(size_t)> each = [&](size_t k) {
        if (k < in.size()) {
          for (Bits v = 0; v < Bits(1) << in[k].width; ++v)
            if (in[k].has(v)) values[k] = v, each(k + 1);
          return;
        }
        Computed c = compute(row.op, t, result, values);
        if (c.trapped) return;
        ++seen;
        results[c.bits] = true;
        ASSERT_TRUE(out.has(c.bits)) << row.name << " gives " << uint64_t(c.bits);
      };
      each(0);
      if (::testing::Test::HasFatalFailure()) return;
      for (Bits v = 0; v < Bits(1) << result.bits(); ++v) allowed += out.has(v);
      precise += results.size(), all += allowed;
      // Where the comparison holds, its first operand is one of these.
      if (row.result == ResultRule::Truth) {
        Number kept = refined(in[0], row.op, in[1]);
        for (Bits a = 0; a < 16; ++a)
          for (Bits b = 0; b < 16; ++b) {
            Bits pair[] = {a, b};
            bool holds = in[0].has(a) && in[1].has(b) && compute(row.op, t, result, pair).bits;
            ASSERT_TRUE(!holds || kept.has(a)) << row.name;
          }
      }
    }
  }
  // Of what is allowed more than half may occur: facts are not just right, but tight.
  EXPECT_GT(precise * 2, all) << precise << " of " << all;
}

TEST(Numbers, JoinAndMeetAreWhatTheySay) {
  std::mt19937_64 random(5);
  for (int round = 0; round < 4000; ++round) {
    Number a = random_number(random, 4), b = random_number(random, 4);
    Number either = a.joined(b), both = a.met(b);
    for (Bits v = 0; v < 16; ++v) {
      EXPECT_TRUE(!(a.has(v) || b.has(v)) || either.has(v));
      EXPECT_EQ(both.has(v), a.has(v) && b.has(v));
      EXPECT_EQ(a.settled().has(v), a.has(v));
    }
  }
}

// ---- memory -----------------------------------------------------------------------------------------------

// Loads and stores of a few objects at random places in random control flow; the evaluator's memory is asked
// after each store and before each load who wrote its bytes last.
TEST(MemoryFlows, TheWriterThatALoadSeesIsNeverPassedOver) {
  std::mt19937_64 random(9);
  size_t loads = 0, named = 0;
  for (int program = 0; program < 300; ++program) {
    // Each store writes a number of its own: what a load gives tells its writer.
    std::string body;
    unsigned blocks = 3 + random() % 4;
    uint64_t number = 1;
    std::string pointers[] = {"a", "b", "c", "d"};
    auto address = [&] {
      std::string p = pointers[random() % 4];
      return "[" + p + (random() % 3 == 0 ? " + i" : "") + " + " + std::to_string(random() % 3 * 4) + "]";
    };
    for (unsigned k = 0; k < blocks; ++k) {
      body += fmt::format("b{}(n{}: i64):\n", k, k);
      for (unsigned m = 0; m < 1 + random() % 5; ++m) {
        if (random() % 2)
          body += fmt::format("  store {}:i32, {}\n", number++, address());
        else
          body += fmt::format("  l{0} = load i32 {1}\n  call seen({2}, l{0})\n", number, address(), number),
              ++number;
      }
      body += fmt::format(
          "  m{0} = add n{0}, 1\n  q{0} = lt.u m{0}, 12\n  bit{0} = and m{0}, {1}\n  zero{0} = eq bit{0}, "
          "0\n  go{0} = and q{0}, zero{0}\n  when q{0} go x{0} else out\nx{0}:\n  when zero{0} go b{2}(m{0}) "
          "else b{3}(m{0})\n",
          k, 1 << random() % 3, random() % blocks, random() % blocks);
    }
    std::string text =
        "module m\nextern func seen(i64, i32) writes nothing, returns\ndata c holds zero: 16\nfunc f(a: ptr, "
        "d: ptr, i: i64) {\nenter:\n  b = reserve 16\n  fill 0, [b], 16\n  c = address of c\n  go b0(0)\n" +
        body + "out:\n  return\n}\n";
    Realm realm;
    auto module = testing::must_read(realm, text);
    if (::testing::Test::HasFailure()) return;
    Symbol s = module->find("f");
    const Function& f = module->function(s);
    Dominators dominators(f);
    Alias alias(*module, f, (*module)[s].facts);
    CallEffects effects(*module);
    MemoryFlow flow(f, dominators, alias, effects);
    // By the number that a load has: it, and the version that it sees.
    std::map<uint64_t, Instruction> by_number;
    std::map<uint64_t, Instruction> stores;
    for (Block b : f.blocks())
      for (Instruction i : f.instructions(b)) {
        if (f.op(i) == Op::Call) by_number[f.constant_bits(f.operand(i, 0))] = f.definition(f.operand(i, 1));
        if (f.op(i) == Op::Store) stores[f.constant_bits(f.operand(i, 0))] = i;
      }
    // Whoever wrote what a load gives is the writer that it sees, or lies before the meeting that it sees.
    std::vector<uint8_t> one(16), two(16);
    Evaluator e(*module);
    e.provide(module->find("seen"), [&](HostCall& call) {
      Instruction load = by_number[call.arguments[0].bits];
      MemoryVersion version = flow.seen_by(load, alias.access(load));
      ++loads;
      auto writer = stores.find(call.arguments[1].bits);
      if (Instruction said = version.writer(); said.exists() && f.op(said) == Op::Store) {
        ++named;
        // One that may have written: it did, or it wrote other bytes and what was there before shows.
        if (writer != stores.end() && writer->second != said) {
          EXPECT_EQ(alias.of(alias.access(said), alias.access(load)).relation, Overlap::Maybe) << text;
        }
      }
      EXPECT_TRUE(!version.is_start() || writer == stores.end())
          << "a load that nothing wrote before gives " << call.arguments[1].bits << "\n"
          << text;
      return true;
    });
    Datum arguments[] = {e.attach(one, "one"), e.attach(program % 2 ? one : two, "two"),
                         Datum{random() % 2 * 4, 0}};
    e.call(s, arguments);
  }
  EXPECT_GT(loads, 1000u);
  EXPECT_GT(named, 200u);
}

TEST(AliasAnswers, ComeWithTheirReason) {
  Realm realm;
  auto module = testing::must_read(realm, R"(module m
kinds k {
  all
  count under all
  degree under all
}
data x holds zero: 8
data y holds zero: 8
extern data z
extern func keep(ptr)
func f(p: ptr sole, q: ptr, i: i64) {
enter:
  mine = reserve 8
  shown = reserve 8
  call keep(shown)
  ax = address of x
  ay = address of y
  az = address of z
  other = load ptr [q]
  far = at [p + 8]
  store 1:i32, [p]
  store 2:i32, [far]
  store 3:i32, [p + i*4]
  store 4:i32, [q] as k.count
  store 5:i32, [other] as k.degree
  store 6:i32, [mine]
  store 7:i32, [shown]
  store 8:i32, [ax]
  store 9:i32, [ay]
  store 10:i32, [az]
  store 11:i32, [p + i*4]
  return
}
)");
  Symbol s = module->find("f");
  const Function& f = module->function(s);
  Alias alias(*module, f, (*module)[s].facts);
  std::map<uint64_t, MemoryAccess> by_number;
  for (Instruction i : f.instructions(f.entry()))
    if (f.op(i) == Op::Store) by_number[f.constant_bits(f.operand(i, 0))] = alias.access(i);
  struct {
    uint64_t a, b;
    Overlap relation;
    const char* why;
  } rows[] = {{1, 2, Overlap::Never, "their offsets are apart"},
              {1, 3, Overlap::Maybe, "their indices differ"},
              {3, 11, Overlap::Same, "the same address"},
              {4, 5, Overlap::Never, "their kinds do not overlap"},
              {1, 4, Overlap::Never, "'sole'"},
              {5, 6, Overlap::Never, "nothing else knows"},
              {5, 7, Overlap::Maybe, "nothing tells"},
              {4, 7, Overlap::Never, "one was made in this call"},
              {8, 9, Overlap::Never, "different objects"},
              {6, 7, Overlap::Never, "different objects"},
              {8, 10, Overlap::Maybe, "external"},
              {8, 4, Overlap::Maybe, "nothing tells"}};
  for (const auto& row : rows) {
    AliasAnswer ab = alias.of(by_number[row.a], by_number[row.b]),
                ba = alias.of(by_number[row.b], by_number[row.a]);
    EXPECT_EQ(ab.relation, row.relation) << row.a << " " << row.b << " " << ab.why;
    EXPECT_NE(std::string(ab.why).find(row.why), std::string::npos) << row.a << " " << row.b << " " << ab.why;
    EXPECT_EQ(ab.relation, ba.relation);
  }
}

TEST(CallEffects, AreThoseOfWholeGroups) {
  Realm realm;
  auto module = testing::must_read(realm, R"(module m
kinds k {
  all
  count under all
  degree under all
}
extern func outside()
extern func only_reads(ptr) reads
func reads(p: ptr) -> i32 {
b:
  v = load i32 [p] as k.count
  call only_reads(p)
  return v
}
func even(p: ptr, n: i64) -> i32 {
b:
  c = eq n, 0
  when c go d else e
d:
  return 1
e:
  m = sub n, 1
  v = call odd(p, m)
  return v
}
func odd(p: ptr, n: i64) -> i32 {
b:
  store 1:i32, [p] as k.count
  v = call even(p, n)
  return v
}
func wild() {
b:
  call outside()
  return
}
)");
  CallEffects effects(*module);
  auto of = [&](const char* name) { return effects.of(module->find(name)); };
  EXPECT_TRUE(of("reads").writes.is_empty());
  EXPECT_TRUE(of("reads").reads.is_all());
  EXPECT_EQ(of("even"), of("odd"));
  KindTree tree = module->kinds.find_tree(realm.name("k"));
  auto path = [&](const char* name) {
    return module->kinds.path(module->kinds.find_kind(tree, realm.name(name)));
  };
  EXPECT_TRUE(of("even").writes.may(module->kinds, path("count")));
  EXPECT_FALSE(of("even").writes.may(module->kinds, path("degree")));
  EXPECT_TRUE(of("wild").writes.is_all());
  // Callees first.
  const auto& order = effects.callees_first();
  EXPECT_EQ(order.size(), 4u);
}

size_t count_of(const std::string& text, std::string_view word) {
  size_t n = 0;
  for (size_t at = 0; (at = text.find(word, at)) != text.npos; at += word.size()) ++n;
  return n;
}

// ---- kinds that grow, checks ------------------------------------------------------------------------------

const char* const growing = R"(module m
layout little

kinds k {
  size align 8 grows
}

extern func more(ptr)

func f(record: ptr, at: i32) -> i32 {
enter:
  base  = load ptr [record]
  size  = load i64 [record + 8] as k.size
  index = widen.u i64 at
  end   = add index, 8
  over  = gt.u end, size
  when over rarely go out else on

on:
  a = load i32 [base + index]
  call more(record)
  base2 = load ptr [record]
  size2 = load i64 [record + 8] as k.size
  end2  = add index, 4
  over2 = gt.u end2, size2
  when over2 rarely go out else on2

on2:
  b   = load i32 [base2 + index]
  sum = add a, b
  return sum

out:
  trap
}
)";

TEST(Checks, HoldForWhatGrows) {
  Realm realm;
  auto module = testing::must_read(realm, growing);
  EXPECT_EQ(write_text(*module).find("kinds"), std::string(growing).find("kinds"));
  EXPECT_NE(write_text(*module).find("  size align 8 grows\n"), std::string::npos);
  Notes notes;
  ASSERT_TRUE(run_pipeline(*module, *read_pipeline("strengthen; checks; sweep; tidy"),
                           {.notes = &notes, .check_between = true})
                  .empty());
  std::string text = write_text(*module);
  // What was checked against the old size holds for the new one.
  EXPECT_EQ(text.find("over2"), std::string::npos) << text;
  bool told = false;
  for (const Note& n : notes) told |= n.pass == "checks" && n.why.find("a check above decides it") == 0;
  EXPECT_TRUE(told);
  // Without a word about the kind nothing is known of the new size, and a check that asks for more stays.
  for (auto [from, to] : {std::pair(" grows", ""), {"add index, 4", "add index, 12"}}) {
    std::string plain(growing);
    plain.replace(plain.find(from), std::string_view(from).size(), to);
    auto other = testing::must_read(realm, plain);
    ASSERT_TRUE(run_pipeline(*other, *read_pipeline("checks; sweep"), {.check_between = true}).empty());
    EXPECT_NE(write_text(*other).find("over2"), std::string::npos);
  }
}

// Offsets added in 32 bits may wrap, but not from an address that a check has found below a bounded size.
TEST(Checks, HoldForOffsetsThatCannotWrap) {
  auto left = [](const std::string& bounds, const std::string& offset, const std::string& between) {
    Realm realm;
    auto module = testing::must_read(
        realm,
        "module m\nkinds k {\n  size align 8 grows" + bounds +
            "\n}\nfunc f(r: ptr, p: ptr, at: i32) -> i32 {\na:\n  size = load i64 [r] as k.size\n  i = "
            "widen.u i64 at\n  x = add i, 4\n  u = gt.u x, size\n  when u rarely go t1 else b\nt1:\n  "
            "trap\nb:\n" +
            between + "  next = add at, " + offset +
            "\n  j = widen.u i64 next\n  y = add j, 4\n  v = gt.u y, size\n  when v rarely go t2 else "
            "c\nt2:\n  trap\nc:\n  l = load i32 [p + i]\n  m = load i32 [p + j]\n  n = add l, m\n  return "
            "n\n}\n");
    EXPECT_TRUE(
        run_pipeline(*module, *read_pipeline("strengthen; checks; sweep; tidy"), {.check_between = true})
            .empty());
    return count_of(write_text(*module), "when");
  };
  EXPECT_EQ(left(" from 0 to 4294901760", "8", ""), 1u);
  EXPECT_EQ(left(" from 0 to 4294901760", "65535", ""), 1u);
  EXPECT_EQ(left(" from 0 to 4294901760", "65540", ""), 2u);
  EXPECT_EQ(left(" from 0 to 4294967296", "8", ""), 2u);
  EXPECT_EQ(left("", "8", ""), 2u);
  EXPECT_EQ(left(" from 0 to 4294901760", "-4", ""), 2u);
  EXPECT_EQ(left(" from 0 to 4294901760", "8", "  store 1:i32, [p] guarded\n"), 2u);
}

TEST(Checks, ATrapComesEarlierOnlyWhereNothingIsSeen) {
  auto counted = [](const std::string& between) {
    Realm realm;
    auto module = testing::must_read(
        realm,
        "module m\nextern func g()\nfunc f(p: ptr, at: i32, size: i64) -> i32 {\na:\n  i = widen.u i64 at\n  "
        "x = add i, 4\n  u = gt.u x, size\n  when u go t1 else b\nt1:\n  trap\nb:\n" +
            between +
            "  y = add i, 8\n  v = gt.u y, size\n  when v go t2 else c\nt2:\n  trap\nc:\n  l = load i32 [p + "
            "i + 4]\n  return l\n}\n");
    EXPECT_TRUE(run_pipeline(*module, *read_pipeline("strengthen; checks; sweep; tidy; sweep"),
                             {.check_between = true})
                    .empty());
    std::string text = write_text(*module);
    size_t count = 0;
    for (size_t at = 0; (at = text.find("when", at)) != text.npos; ++at) ++count;
    return count;
  };
  EXPECT_EQ(counted(""), 1u);
  EXPECT_EQ(counted("  store 1:i32, [p]\n"), 1u);
  EXPECT_EQ(counted("  store 1:i32, [p] guarded\n"), 2u);
  EXPECT_EQ(counted("  call g()\n"), 2u);
  EXPECT_EQ(counted("  k = load i32 [p] volatile\n"), 2u);
}

TEST(KindsThatGrow, AreHeldToItAndPacked) {
  Realm realm;
  auto module = testing::must_read(realm, R"(module m
kinds k {
  size grows from 3 to 20
}
data d holds i64: 5
func set(n: i64) {
a:
  p = address of d
  store n, [p] as k.size
  return
}
)");
  std::string bytes = write_packed(*module);
  auto again = read_packed(realm, "again", bytes);
  ASSERT_TRUE(again.good());
  EXPECT_EQ(write_text(**again), write_text(*module));
  Evaluator e(*module);
  for (auto [n, end] : {std::pair(5, Outcome::End::Result),
                        {9, Outcome::End::Result},
                        {8, Outcome::End::Fault},
                        {20, Outcome::End::Result},
                        {21, Outcome::End::Fault}}) {
    Datum given{static_cast<uint64_t>(n), 0};
    Outcome o = e.call(module->find("set"), {&given, 1});
    EXPECT_EQ(o.end, end) << n << o.message;
  }
}

// ---- single passes ----------------------------------------------------------------------------------------

std::string after(const char* pipeline, const std::string& text) {
  Realm realm;
  auto module = testing::must_read(realm, text);
  Diagnostics broken = run_pipeline(*module, *read_pipeline(pipeline), {.check_between = true});
  EXPECT_TRUE(broken.empty()) << render(broken);
  return write_text(*module);
}

TEST(NumberPass, LoadsAreNotRepeatedWhereNothingWroteTheirBytes) {
  std::string text = after("number; sweep", R"(module m
extern func looks(ptr) reads
func f(p: ptr, q: ptr sole, c: bool) -> i32 {
a:
  x = load i32 [p + 4]
  store 7:i32, [q]
  y = load i32 [p + 4]
  s = load i32 [q]
  when c go b else d
b:
  z = load i32 [p + 4]
  call looks(p)
  go e(z)
d:
  store 1:i32, [p + 8]
  go e(x)
e(m: i32):
  w = load i32 [p + 4]
  store 1:i32, [p + 6]
  v = load i32 [p + 4]
  t1 = add y, s
  t2 = add t1, m
  t3 = add t2, w
  t4 = add t3, v
  return t4
}
)");
  EXPECT_EQ(count_of(text, "load"), 2u) << text;
  EXPECT_NE(text.find("7"), std::string::npos);
}

TEST(NumberPass, LoadsTakePartsOfWhatWasStoredFilledAndCopied) {
  std::string text = after("number; fold; sweep", R"(module m
func f(p: ptr sole, q: ptr sole, x: i64) -> i64 {
a:
  store x, [p + 8]
  high = load i32 [p + 12]
  f = load f32 [p + 8]
  fill 3:i8, [p + 16], 16
  threes = load i16 [p + 20]
  copy [q], [p + 8], 16
  back = load i64 [q]
  low = load i16 [q + 2]
  filled = load i8 [q + 9]
  store 7:i8, [p + 10]
  late = load i16 [q + 2]
  past = load i32 [p + 30]
  h = widen.u i64 high
  b = bits i32 f
  w = widen.u i64 b
  t = widen.u i64 threes
  l = widen.u i64 low
  g = widen.u i64 filled
  m = widen.u i64 late
  o = widen.u i64 past
  s1 = add h, w
  s2 = add s1, t
  s3 = add s2, back
  s4 = add s3, l
  s5 = add s4, g
  s6 = add s5, m
  s7 = add s6, o
  return s7
}
)");
  // What was copied from is written before `late`, and `past` reads more than was filled.
  EXPECT_EQ(count_of(text, "load"), 2u) << text;
  EXPECT_NE(text.find("[q + 2]"), std::string::npos) << text;
  EXPECT_NE(text.find("[p + 30]"), std::string::npos) << text;
}

TEST(NumberPass, WhatSomeWaysComputedTheOtherOnesDo) {
  std::string text = after("number; sweep", R"(module m
func f(p: ptr, q: ptr, n: i32, c: bool) -> i32 {
a:
  when c go b else d
b:
  x = mul n, n
  y = load i32 [p]
  go e(n, x)
d:
  store 1:i32, [q]
  go e(5, 6)
e(k: i32, m: i32):
  square = mul k, k
  again = load i32 [p]
  t1 = add square, again
  t2 = add t1, m
  go loop(0)
loop(i: i32):
  limit = load i32 [p + 8]
  i2 = add i, 1
  more = lt.s i2, limit
  when more go loop(i2) else out
out:
  r = add i2, t2
  return r
}
)");
  // The square of `b` serves `e`, where the other way computes it; `d` loads at its end, behind its store;
  // and the loop's limit, which nothing in the loop writes, is loaded before it.
  EXPECT_EQ(count_of(text, "mul"), 2u) << text;
  EXPECT_EQ(count_of(text, "load"), 3u) << text;
  size_t joined = text.find("\ne("), loop = text.find("\nloop(");
  EXPECT_EQ(text.substr(joined, text.find("go loop") - joined).find("mul"), std::string::npos) << text;
  EXPECT_EQ(text.substr(loop).find("load"), std::string::npos) << text;
}

TEST(SinkPass, ValuesGoWhereTheyAreUsedAndNoFurther) {
  std::string text = after("sink", R"(module m
func f(p: ptr, q: ptr, n: i32, c: bool) -> i32 {
a:
  square = mul n, n
  twice = add square, square
  loaded = load i32 [p]
  early = load i32 [p + 4]
  both = add n, 3
  when c go b else d
b:
  store 1:i32, [q]
  s = add loaded, early
  go loop(s)
loop(i: i32):
  i2 = add i, twice
  more = lt.s i2, both
  when more go loop(i2) else out(i2)
d:
  go out(both)
out(r: i32):
  return r
}
)");
  auto in = [&](const char* block, const char* what) {
    size_t from = text.find(std::string("\n") + block);
    size_t to = text.find(":\n", text.find("go", from));
    return text.substr(from, to - from).find(what) != std::string::npos;
  };
  EXPECT_TRUE(in("b:", "square")) << text;
  EXPECT_TRUE(in("b:", "twice")) << text;
  EXPECT_TRUE(in("b:", "loaded")) << text;
  EXPECT_TRUE(in("a:", "both")) << text;
}

TEST(FlattenPass, PicksOfWhatCostsMuchBecomeBranches) {
  std::string text = after("flatten", R"(module m
func f(x: f64, y: f64, c: bool) -> f64 {
a:
  q = div x, y
  s = sqrt q
  t = add x, 1.0
  u = mul y, y
  r = pick c, t, s
  w = pick c, u, r
  z = sub w, u
  return z
}
)");
  // The root of the quotient is taken on one way alone; the product is used on both.
  EXPECT_EQ(count_of(text, "when"), 1u) << text;
  EXPECT_EQ(count_of(text, "pick"), 1u) << text;
  EXPECT_LT(text.find("when"), text.find("div")) << text;
}

TEST(PropagatePass, FollowsOnlyWaysThatCanBeTaken) {
  std::string text = after("propagate; fold; sweep; tidy; fold", R"(module m
func f(n: i32, p: ptr) -> i32 {
a:
  k = and n, 7
  go loop(0, 1)
loop(i: i32, one: i32):
  odd = eq one, 2
  when odd go never else on
never:
  go on2(5)
on:
  inside = lt.u k, 8
  when inside go on2(one) else gone
gone:
  trap
on2(next: i32):
  i2 = add i, 1
  more = lt.u i2, 10
  when more go loop(i2, next) else out
out:
  r = add next, i2
  return r
}
)");
  EXPECT_EQ(count_of(text, "when"), 1u) << text;
  EXPECT_EQ(text.find("trap"), std::string::npos) << text;
  EXPECT_EQ(text.find("never"), std::string::npos) << text;
}

TEST(ForwardPass, StoresThatNobodySeesGo) {
  std::string text = after("forward", R"(module m
func f(p: ptr, c: bool, n: i32) {
a:
  s = reserve 8
  store 1:i32, [p]
  store 2:i32, [p + 4]
  store 3:i32, [s]
  when c go b else d
b:
  store 4:i32, [p]
  go e
d:
  store 5:i32, [p]
  q = div.s 7, n
  go e
e:
  store 6:i32, [p + 8] guarded
  r = div.s 9, n
  store 7:i32, [p + 8] guarded
  return
}
)");
  EXPECT_EQ(text.find("store 1"), std::string::npos) << text;
  EXPECT_EQ(text.find("store 3"), std::string::npos) << text;
  for (int k : {2, 4, 5, 6, 7})
    EXPECT_NE(text.find(fmt::format("store {}", k)), std::string::npos) << k << "\n" << text;
}

// ---- the framework ----------------------------------------------------------------------------------------

TEST(Framework, APassThatKeepsTooMuchIsFound) {
  PassTable table;
  auto split = [](FunctionContext& c) {
    c.facts.get<Dominators>();
    Block b = c.function.entry();
    if (c.function.first(b) != c.function.last(b)) c.function.split(b, c.function.last(b));
  };
  ASSERT_TRUE(
      table.add({.name = "split", .doc = "", .run = OverFunction(split), .keeps = keeps_all()}).empty());
  Realm realm;
  auto module =
      testing::must_read(realm, "module m\nfunc f(a: i32) -> i32 {\nb:\n  c = add a, 1\n  return c\n}\n");
  Diagnostics broken = run_pipeline(*module, *read_pipeline("split", table), {.check_between = true});
  ASSERT_EQ(broken.size(), 1u);
  EXPECT_EQ(broken[0].message, "after 'split', the dominators of 'f' are kept and do not hold");
}

TEST(Framework, RunsAreCancelledWithTheModuleWhole) {
  Realm realm;
  std::string text = "module m\n";
  for (int k = 0; k < 20; ++k)
    text += fmt::format("func f{}(a: i32) -> i32 {{\nb:\n  c = add a, 0\n  return c\n}}\n", k);
  auto module = testing::must_read(realm, text);
  size_t asked = 0, told = 0;
  PipelineOptions options;
  options.cancelled = [&] { return ++asked > 7; };
  options.progress = [&](const PipelineProgress& p) {
    EXPECT_EQ(p.functions, 20u);
    EXPECT_EQ(p.functions_done, told++);
  };
  Diagnostics stopped = run_pipeline(*module, *read_pipeline("fold; sweep"), options);
  ASSERT_EQ(stopped.size(), 1u);
  EXPECT_NE(stopped[0].message.find("cancelled before 'f7'"), std::string::npos) << stopped[0].message;
  EXPECT_TRUE(verify(*module).empty());
  EXPECT_EQ(count_of(write_text(*module), "add"), 13u);
}

TEST(Framework, PermitsForAModuleTouchFloatsAlone) {
  Realm realm;
  auto module =
      testing::must_read(realm,
                         "module m\nfunc f(a: f32, n: i32) -> f32 {\nb:\n  c = add a, 0.0\n  m = add n, 1\n  "
                         "watch m = m\n  return c\n}\nfunc g(n: i32) -> i32 {\nb:\n  return n\n}\n");
  Notes notes;
  std::string g = write_text(*module).substr(write_text(*module).find("func g"));
  give_permits(*module, permit::nozerosign | permit::nonan, &notes);
  std::string text = write_text(*module);
  EXPECT_EQ(count_of(text, "permit"), 1u) << text;
  EXPECT_EQ(text.substr(text.find("func g")), g);
  ASSERT_EQ(notes.size(), 1u);
  EXPECT_EQ(notes[0].figures[0].second, "1");
  // Each use is told.
  ASSERT_TRUE(run_pipeline(*module, *read_pipeline("fold"), {.notes = &notes}).empty());
  ASSERT_EQ(notes.size(), 2u);
  EXPECT_EQ(notes[1].figures.back(), (std::pair<std::string, std::string>("permit", "nonan, nozerosign")));
  EXPECT_NE(write_text(*module).find("return a"), std::string::npos) << write_text(*module);
}

// Functions that always return and leave nothing are seen as such: of their calls only those stay whose
// results are wanted, and of equal ones the first.
TEST(Facts, CallsThatLeaveNothingGoAndAreMadeOnce) {
  const std::string text = R"(module m
data seen holds i64: 0
func half(x: i64) -> i64 never inline {
a:
  r = div.s x, 2
  return r
}
func both(x: i64, y: i64) -> i64 never inline {
a:
  p = call half(x)
  q = call half(y)
  r = add p, q
  return r
}
func reads(x: i64) -> i64 never inline {
a:
  p = address of seen
  v = load i64 [p]
  return v
}
func divides(x: i64) -> i64 never inline {
a:
  r = div.s 8, x
  return r
}
func forever(x: i64) -> i64 never inline {
a:
  go a2
a2:
  go a2
}
func ring(x: i64) -> i64 never inline {
a:
  r = call ring(x)
  return r
}
func notes(x: i64) -> i64 never inline {
a:
  p = address of seen
  store x, [p]
  return x
}
func f(x: i64) -> i64 {
a:
  u1 = call both(x, 3)
  u2 = call reads(x)
  u3 = call divides(x)
  u4 = call forever(x)
  u5 = call ring(x)
  u6 = call notes(x)
  r1 = call both(x, x)
  p = address of seen
  store 5:i64, [p]
  r2 = call both(x, x)
  r3 = call reads(x)
  s = add r1, r2
  t = add s, r3
  return t
}
)";
  Realm realm;
  auto module = testing::must_read(realm, text);
  ASSERT_EQ(render(run_pipeline(*module, *read_pipeline("number; sweep", standard_passes()))), "");
  std::string out = write_text(*module, module->find("f"));
  for (const char* gone : {"u1", "u2", "r2"}) EXPECT_EQ(out.find(gone), out.npos) << gone << " in\n" << out;
  for (const char* stays : {"u3", "u4", "u5", "u6", "r1", "r3"})
    EXPECT_NE(out.find(stays), out.npos) << stays << " in\n" << out;
}

}  // namespace
}  // namespace porphyry
