// Kept small: divisions that are made once for both of their results, branches on two conditions, and ways
// back into loops.
#include <fmt/format.h>
#include <gtest/gtest.h>

#include <random>
#include <set>

#include "porphyry/eval/evaluator.h"
#include "porphyry/ir/clone.h"
#include "porphyry/jit/jit.h"
#include "porphyry/machine/lower.h"
#include "porphyry/passes/passes.h"
#include "support/measure.h"
#include "support/read.h"
#include "support/targets.h"

namespace porphyry {
namespace {

using testing::target;

unsigned instructions_named(const machine::CompiledFunction& f, std::string_view name) {
  unsigned out = 0;
  std::span<const uint8_t> bytes = f.bytes;
  for (machine::PlainInstruction i; uint8_t size = target().decode(target(), bytes, i);
       bytes = bytes.subspan(size))
    out += target().form(i.form).name.starts_with(name);
  return out;
}

// Quotients and remainders of one or two dividends by the same or another divisor, in any order.
TEST(Reuse, OneDivisionGivesBothResults) {
  std::mt19937_64 random(5);
  for (uint64_t round = 0; round < testing::part_of(300); ++round) {
    const bool is_signed = random() % 2, wide = random() % 2, constant = is_signed || random() % 2;
    const unsigned width = wide ? 64 : 32;
    const char* s = is_signed ? "s" : "u";
    std::string body;
    std::vector<std::string> made;
    std::set<std::string> pairs;
    const std::string divisors[] = {constant ? "60" : "y", constant ? "7" : "z"};
    for (unsigned k = 0, n = 2 + random() % 4; k < n; ++k) {
      const std::string of = fmt::format("{}, {}", random() % 3 ? "x" : "w", divisors[random() % 4 == 0]);
      pairs.insert(of);
      made.push_back(fmt::format("r{}", k));
      body += fmt::format("  r{} = {}.{} {}\n", k, random() % 2 ? "div" : "rem", s, of);
    }
    std::string sum = made[0];
    for (size_t k = 1; k < made.size(); ++k) {
      body += fmt::format("  s{0} = mul {1}, 31\n  t{0} = add s{0}, {2}\n", k, sum, made[k]);
      sum = fmt::format("t{}", k);
    }
    const std::string text = fmt::format(
        "module m\nfunc f(x: i{0}, y: i{0}, z: i{0}, w: i{0}) -> i{0} keep small {{\na:\n{1}  return "
        "{2}\n}}\n",
        width, body, sum);
    Realm realm;
    auto module = testing::must_read(realm, text);
    const auto plain = clone(*module);
    ASSERT_EQ(render(run_pipeline(*module, level_named("-Os")->pipeline())), "");
    auto jit = Jit::compile(*module, target(), {.check_allocation = true});
    ASSERT_TRUE(jit.good()) << render(jit.why());
    EXPECT_EQ(instructions_named((*jit)->lowered().functions[0], is_signed ? "idiv" : "div"), pairs.size())
        << text;
    for (int k = 0; k < 20; ++k) {
      uint64_t in[4];
      for (uint64_t& v : in) v = (random() >> random() % 64) & (wide ? ~uint64_t(0) : 0xffffffff);
      in[1] |= 1, in[2] |= 1;
      Evaluator e(*plain);
      const Datum data[] = {{in[0]}, {in[1]}, {in[2]}, {in[3]}};
      const Outcome end = e.call(Symbol(0), data);
      ASSERT_EQ(end.end, Outcome::End::Result) << end.message << text;
      void* f = (*jit)->address("f");
      const auto is = wide ? reinterpret_cast<uint64_t (*)(uint64_t, uint64_t, uint64_t, uint64_t)>(f)(
                                 in[0], in[1], in[2], in[3])
                           : reinterpret_cast<uint32_t (*)(uint32_t, uint32_t, uint32_t, uint32_t)>(f)(
                                 uint32_t(in[0]), uint32_t(in[1]), uint32_t(in[2]), uint32_t(in[3]));
      ASSERT_EQ(is, uint64_t(end.results[0].bits)) << text;
    }
  }
}

// Any expression of `and` and `or` over comparisons, which a branch asks for, with arguments or without.
TEST(Reuse, JoinedConditionsBecomeBranches) {
  std::mt19937_64 random(9);
  for (uint64_t round = 0; round < testing::part_of(400); ++round) {
    std::string body;
    unsigned made = 0;
    const char* compare[] = {"lt.s", "ge.u", "eq", "ne", "gt.s"};
    auto comparison = [&] {
      body += fmt::format("  c{} = {} {}, {}\n", made, compare[random() % 5], "xyz"[random() % 3],
                          random() % 2 ? std::string(1, "xyz"[random() % 3]) : std::to_string(random() % 4));
      return fmt::format("c{}", made++);
    };
    std::vector<std::string> conditions;
    for (unsigned k = 0, n = 2 + random() % 4; k < n; ++k) conditions.push_back(comparison());
    while (conditions.size() > 1) {
      const size_t k = random() % (conditions.size() - 1);
      body += fmt::format("  c{} = {} {}, {}\n", made, random() % 2 ? "and" : "or", conditions[k],
                          conditions[k + 1]);
      conditions[k] = fmt::format("c{}", made++);
      conditions.erase(conditions.begin() + static_cast<ptrdiff_t>(k) + 1);
    }
    const std::string& all = conditions[0];
    const std::string text = fmt::format(
        "module m\nfunc f(x: i32, y: i32, z: i32) -> i32 keep small {{\na:\n{}  when {} go yes({}) else "
        "no(z, {})\n"
        "yes(p: i32):\n  q = mul p, 3\n  return q\nno(r: i32, s: i32):\n  t = xor r, s\n  return t\n}}\n",
        body, all, random() % 2 ? "x" : "7", random() % 2 ? "y" : "9");
    Realm realm;
    auto module = testing::must_read(realm, text);
    const auto plain = clone(*module);
    ASSERT_EQ(render(run_pipeline(*module, *read_pipeline("split-tests; sweep", standard_passes()),
                                  {.check_between = true})),
              "");
    const std::string after = write_text(*module);
    ASSERT_EQ(after.find(" and "), after.npos) << text << after;
    ASSERT_EQ(after.find(" or "), after.npos) << text << after;
    for (int k = 0; k < 30; ++k) {
      const Datum data[] = {{random() % 5}, {random() % 5}, {(random() % 5 - 2) & 0xffffffff}};
      Evaluator before(*plain), behind(*module);
      const Outcome was = before.call(Symbol(0), data), is = behind.call(Symbol(0), data);
      ASSERT_EQ(uint64_t(is.results[0].bits), uint64_t(was.results[0].bits)) << text << after;
    }
  }
}

// Loops with several ways back, each with the counter's next value and others of its own.
TEST(Reuse, WaysBackIntoALoopMeet) {
  std::mt19937_64 random(13);
  for (uint64_t round = 0; round < testing::part_of(200); ++round) {
    const unsigned ways = 2 + random() % 3, step = 1 + random() % 3;
    std::string text = fmt::format(
        "module m\nfunc f(n: i32) -> i32 keep small {{\na:\n  go top(0, 1)\n"
        "top(i: i32, x: i32):\n  i2 = add i, {}\n  more = lt.s i, n\n  when more go w0 else out\n",
        step);
    for (unsigned w = 0; w < ways; ++w) {
      const bool last = w + 1 == ways;
      text += fmt::format(
          "w{0}:\n  b{0} = and i, {1}\n  c{0} = eq b{0}, 0\n  y{0} = {2} x, {3}\n  go z{0}\nz{0}:\n", w,
          1u << w, random() % 2 ? "mul" : "xor", random() % 2 ? "i" : "7");
      text += last ? fmt::format("  go top(i2, y{})\n", w)
                   : fmt::format("  when c{0} go top(i2, y{0}) else w{1}\n", w, w + 1);
    }
    text += "out:\n  return x\n}\n";
    Realm realm;
    auto module = testing::must_read(realm, text);
    const auto plain = clone(*module);
    ASSERT_EQ(
        render(run_pipeline(*module, *read_pipeline("meet", standard_passes()), {.check_between = true})),
        "");
    const std::string after = write_text(*module);
    const size_t first = after.find("go top("), second = after.find("go top(", first + 1);
    EXPECT_NE(second, after.npos) << after;
    EXPECT_EQ(after.find("go top(", second + 1), after.npos) << after;
    for (uint64_t n : {0, 1, 2, 5, 30}) {
      const Datum data[] = {{n}};
      Evaluator before(*plain), behind(*module);
      const Outcome was = before.call(Symbol(0), data), is = behind.call(Symbol(0), data);
      ASSERT_EQ(uint64_t(is.results[0].bits), uint64_t(was.results[0].bits)) << text << after;
    }
    const std::string once = after;
    ASSERT_EQ(render(run_pipeline(*module, *read_pipeline("meet", standard_passes()))), "");
    EXPECT_EQ(write_text(*module), once);
  }
}

// Allocation counts bytes; what is told of blocks is still how often they run.
TEST(Reuse, BlocksAreStillToldByHowOftenTheyRun) {
  Realm realm;
  auto module = testing::must_read(realm, R"(module m
func f(n: i32) -> i32 keep small {
a:
  go top(0)
top(i: i32):
  i2 = add i, 3
  more = lt.s i2, n
  when more go top(i2) else out
out:
  return i2
}
)");
  auto lowered = machine::lower(*module, target(), {});
  ASSERT_TRUE(lowered.good()) << render(lowered.why());
  float most = 0;
  for (const auto& b : lowered->functions[0].blocks) most = std::max(most, b.frequency);
  EXPECT_GT(most, 4.0f);
}

}  // namespace
}  // namespace porphyry
