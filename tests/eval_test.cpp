// The evaluator: how runs end, objects and bounds, pointers in memory, limits.
#include <gtest/gtest.h>

#include "porphyry/eval/evaluator.h"
#include "porphyry/print/print.h"
#include "support/read.h"

namespace porphyry {
namespace {

using testing::in_function;
using testing::must_read;

struct Ended {
  Outcome outcome;
  std::string where;  // the operation at which it ended
};

// Runs the last function of a text. `piece`, when given, is handed in as the first argument.
Ended run(std::string_view text, std::vector<uint64_t> numbers = {}, std::span<uint8_t> piece = {},
          EvaluatorOptions options = {}, bool writable = true) {
  Realm realm;
  auto module = must_read(realm, text);
  Evaluator e(*module, options);
  std::vector<Datum> arguments;
  if (!piece.empty()) arguments.push_back(e.attach(piece, "piece", writable));
  for (uint64_t n : numbers) arguments.push_back({n, 0});
  Symbol last(module->symbol_count() - 1);
  Ended out{e.call(last, arguments), ""};
  if (!out.outcome.trace.empty() && out.outcome.trace[0].at.exists())
    out.where = write_text(*module, module->function(out.outcome.trace[0].function), out.outcome.trace[0].at);
  return out;
}

using End = Outcome::End;

struct Case {
  const char* header;
  const char* body;
  End end;
  uint64_t result;      // of a result
  const char* message;  // part of it, otherwise
};

TEST(Evaluator, EndsRunsAsTheLanguageSays) {
  const Case cases[] = {
      // Results.
      {"() -> i32", "  a = add 2147483647:i32, 1\n  return a\n", End::Result, 0x80000000, ""},
      {"() -> i8", "  a = rem.s -128:i8, -1\n  return a\n", End::Result, 0, ""},
      {"() -> i32", "  a = shl 1:i32, 33\n  return a\n", End::Result, 2, ""},
      {"() -> i32",
       "  p = reserve 8 align 4\n  store -2:i32, [p + 4]\n  a = load i16 [p + 4]\n  b = widen.s i32 a\n  "
       "return b\n",
       End::Result, 0xfffffffe, ""},
      // A stored pointer keeps its object; other bytes read as a pointer reach revealed objects only.
      {"() -> i32",
       "  p = reserve 8 align 8\n  q = reserve 4 align 4\n  store 7:i32, [q]\n  store q, [p]\n  r = load ptr "
       "[p]\n  a = load i32 [r]\n  return a\n",
       End::Result, 7, ""},
      {"() -> i32",
       "  q = reserve 4 align 4\n  store 7:i32, [q]\n  n = bits i64 q\n  m = add n, 0\n  r = bits ptr m\n  a "
       "= load i32 [r]\n  return a\n",
       End::Result, 7, ""},
      {"() -> i32",
       "  p = reserve 8 align 8\n  q = reserve 4 align 4\n  store 7:i32, [q]\n  store q, [p]\n  n = load i64 "
       "[p]\n  r = bits ptr n\n  a = load i32 [r]\n  return a\n",
       End::Result, 7, ""},
      {"() -> bool", "  p = reserve 4 align 4\n  q = reserve 4 align 4\n  e = eq p, q\n  return e\n",
       End::Result, 0, ""},
      {"() -> i64",
       "  p = reserve 4 align 4\n  q = at [p - 100]\n  r = at [q + 100]\n  store 5:i32, [r]\n  a = load i32 "
       "[p]\n  b = widen.u i64 a\n  return b\n",
       End::Result, 5, ""},
      // Traps.
      {"() -> i32", "  a = div.s 1:i32, 0\n  return a\n", End::Trap, 0, "div.s"},
      {"() -> i32", "  a = div.s -2147483648:i32, -1\n  return a\n", End::Trap, 0, "div.s"},
      {"() -> i32", "  trap\n", End::Trap, 0, "trap"},
      // Faults.
      {"() -> i32", "  p = reserve 4 align 4\n  a = load i32 [p + 1]\n  return a\n", End::Fault, 0,
       "a load of 4 bytes at offset 1 of 'p', which has 4"},
      {"() -> i32", "  p = reserve 4 align 4\n  store 1:i8, [p - 1]\n  return 0\n", End::Fault, 0,
       "a store of 1 byte at offset -1 of 'p', which has 4"},
      {"() -> i32", "  a = load i32 [null]\n  return a\n", End::Fault, 0, "a pointer to no object (null)"},
      {"() -> i32", "  p = reserve 4 align 4\n  q = bits ptr 4660:i64\n  a = load i32 [q]\n  return a\n",
       End::Fault, 0, "a pointer to no object (0x1234)"},
      {"() -> i32", "  p = reserve 8 align 8\n  a = load i32 [p + 4] align 8\n  return a\n", End::Fault, 0,
       "breaks its promise 'align 8'"},
  };
  for (const Case& c : cases) {
    Ended r = run(in_function(c.header, c.body));
    EXPECT_EQ(r.outcome.end, c.end) << c.body << r.outcome.message;
    if (c.end == End::Result && r.outcome.end == End::Result) {
      EXPECT_EQ(r.outcome.results[0].bits, c.result) << c.body;
    }
    EXPECT_NE(r.outcome.message.find(c.message), std::string::npos) << c.body << r.outcome.message;
  }
}

TEST(Evaluator, ObjectsEndWithTheirCallAndWhenMadeAgain) {
  const char* escape = R"(module m
func inner() -> ptr {
a:
  p = reserve 4 align 4
  store 1:i32, [p]
  return p
}
func outer() -> i32 {
a:
  p = call inner()
  v = load i32 [p]    @1:2:3
  return v
}
)";
  Ended r = run(escape);
  EXPECT_EQ(r.outcome.end, End::Fault);
  EXPECT_EQ(r.outcome.message, "a load of 'p' after its life ended");
  EXPECT_EQ(r.where, "v = load i32 [p]");

  const char* again = R"(module m
func f() -> i32 {
a:
  go b(0, null)
b(i: i32, old: ptr):
  p  = reserve 4 align 4
  i2 = add i, 1
  c  = lt.s i2, 2
  when c go d else e
d:
  go b(i2, p)
e:
  v = load i32 [old]
  return v
}
)";
  r = run(again);
  EXPECT_EQ(r.outcome.end, End::Fault);
  EXPECT_NE(r.outcome.message.find("after its life ended"), std::string::npos);
}

TEST(Evaluator, ConstantDataAndReadOnlyPiecesRefuseStores) {
  std::vector<uint8_t> piece(4, 1);
  const char* store =
      "module m\nfunc f(p: ptr) -> i32 {\na:\n  store 9:i8, [p + 2]\n  v = load i32 [p]\n  return v\n}\n";
  EXPECT_EQ(run(store, {}, piece, {}, false).outcome.end, End::Fault);
  EXPECT_EQ(piece[2], 1);
  EXPECT_EQ(run(store, {}, piece).outcome.results[0].bits, 0x01090101u);
  EXPECT_EQ(piece[2], 9);
  Ended r =
      run("module m\ndata d const holds i32: 5\nfunc f() {\na:\n  p = address of d\n  store 1:i32, [p]\n  "
          "return\n}\n");
  EXPECT_EQ(r.outcome.message, "a store into constant 'd'");
}

TEST(Evaluator, FreshMemoryFollowsTheSeed) {
  std::string text = in_function("() -> i64", "  p = reserve 8 align 8\n  v = load i64 [p]\n  return v\n");
  uint64_t a = run(text, {}, {}, {.seed = 1}).outcome.results[0].bits;
  EXPECT_EQ(a, run(text, {}, {}, {.seed = 1}).outcome.results[0].bits);
  EXPECT_NE(a, run(text, {}, {}, {.seed = 2}).outcome.results[0].bits);
}

TEST(Evaluator, LimitsEndARunWithoutProvingAnything) {
  EXPECT_EQ(
      run("module m\nfunc f() {\na:\n  go b\nb:\n  go b\n}\n", {}, {}, {.step_limit = 1000}).outcome.end,
      End::Exhausted);
  const char* deep =
      "module m\nfunc f(n: i64) -> i64 {\na:\n  z = eq n, 0\n  when z go b else c\nb:\n  return 0\nc:\n  m = "
      "sub n, 1\n  r = call f(m)\n  s = add r, 1\n  return s\n}\n";
  EXPECT_EQ(run(deep, {1'000'000}).outcome.results[0].bits, 1'000'000u);  // no stack of the host is used
  Ended r = run(deep, {~uint64_t(0)}, {}, {.frame_limit = 1000});
  EXPECT_EQ(r.outcome.end, End::Exhausted);
  EXPECT_EQ(r.outcome.trace.size(), 64u);
  EXPECT_EQ(
      run(in_function("()", "  p = reserve 1000000000 align 8\n  return\n"), {}, {}, {.memory_limit = 1000})
          .outcome.end,
      End::Exhausted);
}

TEST(Evaluator, CallsHostFunctions) {
  Realm realm;
  auto module = must_read(realm,
                          "module m\nextern func twice(i32) -> i32\nextern func never() -> i32\nfunc f(a: "
                          "i32) -> i32 {\na:\n  b = call twice(a)\n  c = add b, 1\n  return c\n}\n"
                          "func g() -> i32 {\na:\n  b = call never()\n  return b\n}\n");
  Evaluator e(*module);
  Datum five{5, 0};
  Outcome missing = e.call(module->find("f"), {&five, 1});
  EXPECT_EQ(missing.end, End::Fault);
  EXPECT_EQ(missing.message, "no host function is provided for 'twice'");
  e.provide(module->find("twice"), [](HostCall& call) {
    call.results[0].bits = 2 * call.arguments[0].bits;
    return true;
  });
  e.provide(module->find("never"), [](HostCall&) { return false; });
  EXPECT_EQ(e.call(module->find("f"), {&five, 1}).results[0].bits, 11u);
  EXPECT_EQ(e.call(module->find("g"), {}).end, End::Trap);
}

TEST(Evaluator, DataKeepsWhatRunsLeaveAndHoldsAddresses) {
  Realm realm;
  auto module = must_read(realm, R"(module m
data count holds i32: 40
data table holds address: count; i64: 3
func bump() -> i32 {
a:
  t = address of table
  p = load ptr [t]
  v = load i32 [p]
  w = add v, 1
  store w, [p]
  return w
}
)");
  Evaluator e(*module);
  EXPECT_EQ(e.call(module->find("bump"), {}).results[0].bits, 41u);
  EXPECT_EQ(e.call(module->find("bump"), {}).results[0].bits, 42u);
  EXPECT_EQ(e.data(module->find("count"))[0], 42);
}

}  // namespace
}  // namespace porphyry
