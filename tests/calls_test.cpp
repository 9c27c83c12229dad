// Passes over calls and loops: what they did, said, and left alone; and how much stack is used.
#include <fmt/format.h>
#include <gtest/gtest.h>

#include <random>

#include "porphyry/eval/evaluator.h"
#include "porphyry/ir/clone.h"
#include "porphyry/jit/jit.h"
#include "porphyry/passes/passes.h"
#include "porphyry/print/print.h"
#include "porphyry/render/notes.h"
#include "porphyry/targets/targets.h"
#include "support/measure.h"
#include "support/read.h"

namespace porphyry {
namespace {

struct Ran {
  std::string text;
  Notes notes;
  const Note* about(std::string_view what) const {
    for (const Note& n : notes)
      if (n.what.find(what) != std::string::npos) return &n;
    return nullptr;
  }
};

Ran after(const char* pipeline, const std::string& text) {
  Realm realm;
  auto module = testing::must_read(realm, text);
  Ran out;
  Diagnostics broken =
      run_pipeline(*module, *read_pipeline(pipeline), {.notes = &out.notes, .check_between = true});
  EXPECT_TRUE(broken.empty()) << render(broken);
  out.text = write_text(*module);
  return out;
}
size_t count_of(const std::string& text, std::string_view word) {
  size_t n = 0;
  for (size_t at = 0; (at = text.find(word, at)) != text.npos; at += word.size()) ++n;
  return n;
}
std::string figure(const Note& n, std::string_view name) {
  for (const auto& [key, value] : n.figures)
    if (key == name) return value;
  return "";
}

TEST(InlinePass, PutsBodiesInPlaceAndSaysWhatItWeighed) {
  Ran ran = after("inline; fold; sweep; tidy", R"(module m
layout little
source 1 "orchard.fml"

local func wetter(a: f32, b: f32) -> f32 permit nonan {
first:
  more = gt a, b     @1:3:1
  d = sub a, b     @1:3:9
  when more go left(a) else right(b)
left(x: f32):
  return x
right(y: f32):
  return y
}
func two(p: ptr sole, n: i32) -> i32, i32 {
a:
  store n, [p]
  m = load i32 [p]
  return m, n
}
func never_mine(n: i32) -> i32 never inline {
a:
  return n
}
func loops(n: i32) -> i32 {
a:
  r = call loops(n)
  return r
}
func f(a: f32, b: f32, p: ptr, n: i32) -> f32 {
start:
  w = call wetter(a, b)     @1:20:5
  x, y = call two(p, n)
  z = call never_mine(x)
  v = call loops(y)
  s = add z, v
  t = to_float.s f32 s
  u = add t, w
  return u
}
)");
  EXPECT_EQ(ran.text.find("call wetter"), std::string::npos) << ran.text;
  EXPECT_EQ(ran.text.find("call two"), std::string::npos) << ran.text;
  EXPECT_EQ(count_of(ran.text, "call never_mine"), 1u);
  EXPECT_EQ(count_of(ran.text, "call loops"), 2u);
  // The position says where; permits of the function are those of its instructions; `sole` holds for a
  // stretch.
  EXPECT_NE(ran.text.find("@1:3:1 of wetter in @1:20:5"), std::string::npos) << ran.text;
  EXPECT_NE(ran.text.find("gt a, b permit nonan"), std::string::npos) << ran.text;
  EXPECT_EQ(count_of(ran.text, "sole p"), 1u) << ran.text;
  EXPECT_EQ(count_of(ran.text, "end "), 1u) << ran.text;
  const Note* done = ran.about("call of 'wetter' was inlined");
  ASSERT_TRUE(done);
  unsigned sum = 0;
  for (const char* part :
       {"for the call", "for any", "for constants", "for loops", "for hint", "for last call"})
    if (std::string n = figure(*done, part); !n.empty()) sum += static_cast<unsigned>(std::stoi(n));
  EXPECT_EQ(figure(*done, "budget"), std::to_string(sum));
  EXPECT_EQ(figure(*done, "for last call"), "300");
  EXPECT_LE(std::stoi(figure(*done, "cost")), std::stoi(figure(*done, "budget")));
  ASSERT_TRUE(ran.about("call of 'never_mine' stays"));
  EXPECT_EQ(ran.about("call of 'loops' stays")->why, "it is the function itself");
}

// A hint changes the budget and never the cost; a call that is next to never reached is left.
TEST(InlinePass, HintsAndColdCallsChangeTheBudgetAlone) {
  auto with = [](const std::string& hint, const char* way) {
    std::string body;
    for (int k = 0; k < 60; ++k)
      body += fmt::format("  v{} = xor {}, {}\n", k, k ? fmt::format("v{}", k - 1) : "n", 3 * k + 1);
    return after("inline", "module m\nfunc g(n: i32) -> i32 " + hint + " {\na:\n" + body +
                               "  return v59\n}\nfunc f(n: i32, c: bool) -> i32 {\na:\n  when c " + way +
                               " go b else d\nb:\n  r = call g(n)\n  return r\nd:\n  return n\n}\n");
  };
  Ran plain = with("", ""), hinted = with("prefer inline", ""), cold = with("prefer inline", "rarely");
  auto cost = [](const Ran& r) { return figure(*r.about("call of 'g'"), "cost"); };
  auto budget = [](const Ran& r) { return std::stoi(figure(*r.about("call of 'g'"), "budget")); };
  EXPECT_EQ(cost(plain), cost(hinted));
  EXPECT_EQ(budget(hinted), budget(plain) + 100);
  EXPECT_TRUE(plain.about("call of 'g' stays"));
  EXPECT_TRUE(hinted.about("call of 'g' was inlined"));
  EXPECT_TRUE(cold.about("call of 'g' stays"));
}

const char* const recursive = R"(module m
layout little
func sum_to(n: i64, so_far: i64) -> i64 {
a:
  done = eq n, 0
  when done go out(so_far) else more
more:
  s = add so_far, n
  m = sub n, 1
  r = call sum_to(m, s)
  go out(r)
out(v: i64):
  return v
}
func product(n: i64) -> i64 {
a:
  done = eq n, 0
  when done go one else more
one:
  return 1
more:
  m = sub n, 1
  r = call product(m)
  p = mul n, r
  return p
}
func even(n: i64) -> bool {
a:
  done = eq n, 0
  when done go yes else no
yes:
  return true
no:
  m = sub n, 1
  r = call odd(m)
  return r
}
func odd(n: i64) -> bool {
a:
  done = eq n, 0
  when done go no else yes
no:
  return false
yes:
  m = sub n, 1
  r = call even(m)
  return r
}
func depth(n: i64, above: ptr) -> i64 {
a:
  slot = reserve 8 align 8
  store n, [slot]
  done = eq n, 0
  when done go out else more
out:
  v = load i64 [above]
  return v
more:
  m = sub n, 1
  r = call depth(m, slot)
  return r
}
func minus(n: i64) -> i64 {
a:
  done = eq n, 0
  when done go out else more
out:
  return n
more:
  m = sub n, 1
  r = call minus(m)
  d = sub n, r
  return d
}
)";

// What recursion became is put in place like any other body.
TEST(InlinePass, LoopsThatWereRecursionGoInPlace) {
  Ran ran = after("tail; inline", std::string(recursive) + R"(
func f(n: i64) -> i64 {
a:
  r = call product(n)
  s = call minus(r)
  return s
}
)");
  std::string f = ran.text.substr(ran.text.find("func f("));
  EXPECT_EQ(f.find("call product"), std::string::npos) << f;
  EXPECT_NE(f.find("call minus"), std::string::npos) << f;
}

TEST(TailPass, TenMillionCallsTakeNoStack) {
  Realm realm;
  auto module = testing::must_read(realm, recursive);
  Notes notes;
  ASSERT_TRUE(
      run_pipeline(*module, *read_pipeline("tail"), {.notes = &notes, .check_between = true}).empty());
  std::string text = write_text(*module);
  EXPECT_EQ(text.find("call sum_to"), std::string::npos) << text;
  EXPECT_EQ(text.find("call product"), std::string::npos) << text;
  EXPECT_NE(text.find("return call odd"), std::string::npos) << text;
  EXPECT_NE(text.find("= call depth"), std::string::npos) << text;
  EXPECT_NE(text.find("= call minus"), std::string::npos) << text;
  std::string said = render(notes);
  EXPECT_NE(said.find("the callee may look into the frame"), std::string::npos) << said;
  EXPECT_NE(said.find("computed with in a fixed order"), std::string::npos) << said;
  auto jit = Jit::compile(*module, *native_target());
  ASSERT_TRUE(jit.good()) << render(jit.why());
  auto sum_to = *(*jit)->function<int64_t(int64_t, int64_t)>("sum_to");
  auto even = *(*jit)->function<bool(int64_t)>("even");
  auto product = *(*jit)->function<int64_t(int64_t)>("product");
  EXPECT_EQ(sum_to(10'000'000, 0), 50'000'005'000'000);
  EXPECT_TRUE(even(10'000'000));
  EXPECT_FALSE(even(9'999'999));
  EXPECT_EQ(product(20), 2432902008176640000);
  EXPECT_EQ(product(10'000'000), 0);  // with every factor of two
}

TEST(ModulePasses, EqualBodiesAreOneAndWhatNothingCallsGoes) {
  Ran ran = after("merge; drop", R"(module m
layout little
local func first(n: i32) -> i32 {
a:
  m = add n, 7
  return m
}
local func second(count: i32) -> i32 {
start:
  more = add count, 7
  return more
}
local func through_first(n: i32) -> i32 {
a:
  r = call first(n)
  return r
}
local func through_second(n: i32) -> i32 {
a:
  r = call second(n)
  return r
}
local func other(n: i32) -> i32 {
a:
  m = add n, 8
  return m
}
local func taken(n: i32) -> i32 {
a:
  m = add n, 7
  return m
}
local func ring(n: i32) -> i32 {
a:
  m = call ring(n)
  return m
}
func f(n: i32) -> i32, ptr {
a:
  x = call through_first(n)
  y = call through_second(x)
  z = call other(y)
  p = address of taken
  return z, p
}
)");
  EXPECT_EQ(count_of(ran.text, "call through_first"), 2u) << ran.text;
  EXPECT_EQ(count_of(ran.text, "call second"), 0u) << ran.text;
  EXPECT_EQ(count_of(ran.text, "trap"), 3u) << ran.text;  // second, through_second, ring
  ASSERT_TRUE(ran.about("calls go to 'first' instead"));
  EXPECT_EQ(ran.about("calls go to 'first' instead")->function, "second");
  EXPECT_EQ(ran.about("the body was dropped")->function, "second");
}

// What has been accumulated must not be lost where another call leaves in this one's place.
TEST(TailPass, NothingAccumulatesWhereAnotherCallLeaves) {
  for (const char* other : {"  r2 = call g(n)\n  return r2\n", "  return call g(n)\n"}) {
    std::string text = std::string(R"(module m
layout little
func g(n: i64) -> i64 {
a:
  z = eq n, 0
  when z go out else more
out:
  return 5
more:
  m = sub n, 1
  r = call h(m)
  return r
}
func h(n: i64) -> i64 {
a:
  z = gt.s n, 3
  when z go b else c
b:
  m = sub n, 1
  r = call h(m)
  p = mul r, n
  return p
c:
)") + other + "}\n";
    for (const Level& level : all_levels()) {
      Realm realm;
      auto module = testing::must_read(realm, text);
      ASSERT_TRUE(run_pipeline(*module, level.pipeline(), {.check_between = true}).empty());
      auto jit = Jit::compile(*module, *native_target());
      ASSERT_TRUE(jit.good()) << render(jit.why());
      EXPECT_EQ((*(*jit)->function<int64_t(int64_t)>("h"))(6), 600) << level.name;
    }
  }
}

// Functions that call themselves and each other in last place, nearly so, or before something else.
std::string recursion(std::mt19937_64& random) {
  const char* const operations[] = {"add", "mul", "and", "or", "xor", "max.s", "min.u", "sub"};
  const char* usual = operations[random() % 7];
  std::string text = "module m\nlayout little\n";
  for (const char* f : {"f", "g"}) {
    text += fmt::format(
        "func {}(n: i64, k: i64) -> i64 {{\na:\n  end = le.s n, 0\n  when end go out(k) else w0\n", f);
    const size_t ways = 1 + random() % 4;
    for (size_t w = 0; w < ways; ++w) {
      const char* callee = random() % 3 ? f : random() % 2 ? "f" : "g";
      const char* op = random() % 4 ? usual : operations[random() % 8];
      std::string call = fmt::format("call {}(m{}, k{})", callee, w, w);
      text += fmt::format(
          "w{0}:\n  h{0} = rem.s n, {1}\n  c{0} = eq h{0}, {2}\n  when c{0} go t{0} else w{3}\n"
          "t{0}:\n  m{0} = sub n, {4}\n  k{0} = add k, {5}\n",
          w, 2 + random() % 3, random() % 2, w + 1, 1 + random() % 3, random() % 9);
      switch (random() % 6) {
        case 0: text += "  return " + call + "\n"; break;
        case 1: text += fmt::format("  r{0} = {1}\n  go out(r{0})\n", w, call); break;
        case 2: text += fmt::format("  r{0} = {1}\n  return r{0}\n", w, call); break;
        default:
          text += random() % 2 ? fmt::format("  r{0} = {1}\n  p{0} = {2} n, r{0}\n", w, call, op)
                               : fmt::format("  r{0} = {1}\n  p{0} = {2} r{0}, k\n", w, call, op);
          text += random() % 2 ? fmt::format("  return p{}\n", w) : fmt::format("  go out(p{})\n", w);
      }
    }
    text += fmt::format("w{}:\n  go out({})\nout(v: i64):\n  return v\n}}\n", ways, random() % 2 ? "n" : "7");
  }
  return text;
}

TEST(TailPass, MeansTheSameInAnyRecursion) {
  std::mt19937_64 random(21);
  size_t loops = 0, leaving = 0;
  for (int round = 0; round < 600 / static_cast<int>(testing::checked_part); ++round) {
    std::string text = recursion(random);
    Realm realm;
    auto plain = testing::must_read(realm, text);
    for (const char* pipeline : {"tail", "tail; inline; fold; sweep; tidy; tail"}) {
      auto module = testing::must_read(realm, text);
      Diagnostics broken = run_pipeline(*module, *read_pipeline(pipeline), {.check_between = true});
      ASSERT_TRUE(broken.empty()) << text << render(broken);
      std::string now = write_text(*module);
      loops += count_of(now, "= call") < count_of(text, "= call");
      leaving += count_of(now, "return call") > 0;
      for (uint64_t n = 0; n < 9; ++n) {
        Datum given[] = {{n, 0}, {3 * n + 1, 0}};
        Outcome meant = Evaluator(*plain).call(plain->find("f"), given);
        Outcome is = Evaluator(*module).call(module->find("f"), given);
        ASSERT_EQ(meant.end, Outcome::End::Result) << text << meant.message;
        ASSERT_EQ(is.end, meant.end) << text << now;
        ASSERT_EQ(is.results[0].bits, meant.results[0].bits) << n << "\n" << text << now;
      }
    }
  }
  EXPECT_GT(loops, 100u / testing::checked_part);
  EXPECT_GT(leaving, 100u / testing::checked_part);
}

// A recursion that branches: each call does the work of several. Once more would be too large.
TEST(InlinePass, TakesASmallFunctionsOwnBodyInPlace) {
  const std::string text = R"(module m
layout little
func ways(a: i64, b: i64) -> i64 {
e:
  x = eq a, 0
  y = eq b, 0
  z = or x, y
  when z go one else both
both:
  c = sub a, 1
  d = sub b, 1
  u = call ways(c, b)
  v = call ways(a, d)
  w = add u, v
  return w
one:
  return 1
}
)";
  Ran ran = after("inline; fold; tidy", text);
  ASSERT_TRUE(ran.about("the function's own body"));
  EXPECT_EQ(figure(*ran.about("the function's own body"), "instructions"), "11");
  EXPECT_EQ(count_of(ran.text, "= call ways"), 4u) << ran.text;
  Realm realm;
  auto plain = testing::must_read(realm, text), module = testing::must_read(realm, ran.text);
  for (uint64_t n = 0; n < 6; ++n) {
    Datum given[] = {{n, 0}, {5 - n / 2, 0}};
    Outcome meant = Evaluator(*plain).call(plain->find("ways"), given);
    EXPECT_EQ(Evaluator(*module).call(module->find("ways"), given).results[0].bits, meant.results[0].bits);
  }
  std::string never = text;
  never.replace(never.find("-> i64 {"), 8, "-> i64 never inline {");
  EXPECT_EQ(count_of(after("inline", never).text, "= call ways"), 2u);
}

TEST(TrimPass, WhatNobodyUsesGoesAndWhatIsAlwaysTheSameIsSaidOnce) {
  const std::string text = R"(module m
layout little
local func level(depth: i32, n: i32, unused: i32, n2: i32) -> i32, i32, i32 {
a:
  c = gt.s n, 0
  when c go down else out
down:
  m = sub n, 1
  r, s, t = call level(depth, m, unused, n2)
  r2 = add r, depth
  return r2, 7, t
out:
  return n2, 7, n
}
local func seen(n: i32) -> i32 {
a:
  return n
}
func f(n: i32) -> i32, i32 {
a:
  x = mul n, 5
  r, s, t = call level(3, n, x, n)
  u = call seen(1)
  v = add r, u
  return v, s
}
func g(n: i32, p: ptr) -> i32, i32 {
a:
  w = call seen(n)
  r, s, t = call level(3, w, 2, 4)
  q = address of seen
  store q, [p]
  return r, s
}
)";
  Ran ran = after("trim", text);
  EXPECT_NE(ran.text.find("local func level(n: i32, n2: i32) -> i32 {"), ran.text.npos) << ran.text;
  EXPECT_NE(ran.text.find("local func seen(n: i32) -> i32 {"), ran.text.npos) << "its address is taken\n"
                                                                              << ran.text;
  EXPECT_EQ(ran.text.find("mul n, 5"), ran.text.npos) << ran.text;
  ASSERT_TRUE(ran.about("result 2 is gone"));
  EXPECT_EQ(ran.about("result 2 is gone")->why, "it is always the same constant");
  Realm realm;
  auto plain = testing::must_read(realm, text), module = testing::must_read(realm, ran.text);
  for (uint64_t n = 0; n < 4; ++n) {
    Datum given[] = {{n, 0}};
    Outcome meant = Evaluator(*plain).call(plain->find("f"), given);
    Outcome is = Evaluator(*module).call(module->find("f"), given);
    ASSERT_EQ(is.end, meant.end) << is.message;
    for (size_t k = 0; k < 2; ++k) EXPECT_EQ(is.results[k].bits, meant.results[k].bits);
  }
}

TEST(HoistPass, WhatStaysTheSameIsComputedOnce) {
  Ran ran = after("hoist", R"(module m
layout little
func f(p: ptr, q: ptr, n: i32, k: i32, c: bool) -> i32 {
a:
  when c go outer(0, 0) else out(0)
outer(i: i32, s: i32):
  limit = load i32 [p]
  go inner(0, s)
inner(j: i32, t: i32):
  head   = load i32 [q]
  square = mul k, k
  more   = mul square, n
  row    = mul i, 12
  both   = add row, more
  now    = div.s n, k
  late   = load i32 [q + 8]
  t2     = add t, both
  t3     = add t2, now
  t4     = add t3, head
  t5     = add t4, late
  j2     = add j, 1
  on     = lt.s j2, limit
  when on go inner(j2, t5) else behind
behind:
  store t5, [p + 2]
  i2 = add i, 1
  on2 = lt.s i2, n
  when on2 go outer(i2, t5) else out(t5)
out(r: i32):
  return r
}
)");
  auto place = [&](std::string_view what) { return ran.text.find(what); };
  const size_t outer = place("\nouter("), inner = place("\ninner(");
  // Products of what no loop changes go all the way, those with the outer counter one loop, and so do loads
  // from memory that the inner loop leaves alone, but for one behind a division, which may trap.
  for (const char* what : {"  square", "  more "}) EXPECT_LT(place(what), outer) << ran.text;
  for (const char* what : {"row", "both", "head"}) {
    EXPECT_GT(place(std::string("  ") + what), outer) << what << ran.text;
    EXPECT_LT(place(std::string("  ") + what), inner) << what << ran.text;
  }
  for (const char* what : {"  now", "  late"}) EXPECT_GT(place(what), inner) << what << ran.text;
  EXPECT_GT(place("  limit"), outer) << ran.text;
}

// A function that two constants take apart into different halves, one of them in a ring with itself: each
// call with a constant gets a copy without the other half, calls with anything else stay.
TEST(Specialize, MakesCopiesForWhatConstantsDecide) {
  std::string half;
  for (int k = 0; k < 24; ++k)
    half += fmt::format("  {0}{2} = mul {0}{1}, {3}\n", "{0}", k, k + 1, 2 * k + 3);
  const std::string text =
      fmt::format(R"(module m
source 1 "orchard.frost"
func sum(how: i32, x: i64, n: i64) -> i64 never inline {{
a:
  cold = eq how, 0
  when cold go left else right
left:
  l0 = add x, 1
{0}  some = gt.s n, 0
  when some go again else end
again:
  n2 = sub n, 1
  rest = call sum(how, l24, n2)
  return rest
end:
  return l24
right:
  r0 = add x, 2
{1}  return r24
}}
func f(x: i64, how: i32) -> i64 {{
a:
  p = call sum(0, x, 2)   @1:3:1
  q = call sum(1, x, 2)   @1:4:1
  r = call sum(how, x, 1) @1:5:1
  s = add p, q
  t = add s, r
  return t
}}
)",
                  fmt::format(fmt::runtime(half), "l"), fmt::format(fmt::runtime(half), "r"));
  Realm realm;
  auto module = testing::must_read(realm, text), before = clone(*module);
  Notes notes;
  ASSERT_EQ(render(run_pipeline(*module, *read_pipeline("specialize; fold; sweep; tidy", standard_passes()),
                                {.notes = &notes})),
            "");
  std::string out = write_text(*module);
  EXPECT_NE(out.find("p = call sum_special1(0, x, 2)"), out.npos) << out;
  EXPECT_NE(out.find("q = call sum_special2(1, x, 2)"), out.npos) << out;
  EXPECT_NE(out.find("r = call sum(how, x, 1)"), out.npos) << out;
  EXPECT_NE(out.find("rest = call sum_special1("), out.npos) << out;
  const Symbol made = module->find("sum_special1");
  EXPECT_EQ(write_text(*module, made).find("r24"), std::string::npos);
  EXPECT_EQ(write_text(*module, module->find("sum_special2")).find("l24"), std::string::npos);
  ASSERT_EQ(std::count_if(notes.begin(), notes.end(),
                          [](const Note& n) { return n.pass == "specialize" && n.kind == Note::Kind::Done; }),
            2);
  for (uint64_t x : {0u, 7u})
    for (uint64_t how : {0u, 1u, 5u}) {
      const Datum data[] = {{x}, {how}};
      Evaluator was(*before), is(*module);
      const Outcome a = was.call(before->find("f"), data), b = is.call(module->find("f"), data);
      ASSERT_EQ(a.end, Outcome::End::Result);
      EXPECT_EQ(a.results[0].bits, b.results[0].bits);
    }
}

}  // namespace
}  // namespace porphyry
