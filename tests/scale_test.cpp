// Shifts of factors: sums of products stay what they were for any numbers; the shift goes behind the product
// where it has no other use, and stays where it has.
#include <fmt/format.h>
#include <gtest/gtest.h>

#include <random>

#include "porphyry/eval/evaluator.h"
#include "porphyry/passes/passes.h"
#include "support/measure.h"
#include "support/read.h"

namespace porphyry {
namespace {

TEST(Scale, ShiftsOfFactorsMoveBehindProducts) {
  std::mt19937_64 random(3);
  for (uint64_t round = 0; round < testing::part_of(800); ++round) {
    const unsigned width = random() % 2 ? 64 : 32, by = 1 + random() % 4;
    const bool masked = random() % 2, right = random() % 2, kept = random() % 4 == 0;
    const uint64_t full = width == 64 ? ~uint64_t(0) : 0xffffffff, mask = random() & full;
    std::string body = fmt::format("  s = shl x, {}\n", by);
    if (masked) body += fmt::format("  k = and s, {}\n", mask);
    const std::string factor = masked ? "k" : "s";
    body += fmt::format("  p = mul {}\n  r = add z, p\n", right ? "y, " + factor : factor + ", y");
    const std::string text = fmt::format(
        "module m\nfunc f(x: i{0}, y: i{0}, z: i{0}) -> i{0}, i{0} {{\na:\n{1}  return r, {2}\n}}\n", width,
        body, kept ? "s" : "z");
    Realm realm;
    auto module = testing::must_read(realm, text);
    ASSERT_EQ(render(run_pipeline(*module, *read_pipeline("scale; sweep", standard_passes()),
                                  {.check_between = true})),
              "");
    const std::string after = write_text(*module);
    const bool moves = !kept && by <= 3;
    ASSERT_EQ(after.find("shl") > after.find("mul"), moves) << text << after;
    for (int k = 0; k < 8; ++k) {
      const uint64_t x = random() & full, y = random() & full, z = random() & full;
      const uint64_t shifted = x << by & full, is = (z + (masked ? shifted & mask : shifted) * y) & full;
      Evaluator e(*module);
      const Datum data[] = {{x}, {y}, {z}};
      const Outcome end = e.call(Symbol(0), data);
      ASSERT_EQ(end.end, Outcome::End::Result) << end.message;
      ASSERT_EQ(static_cast<uint64_t>(end.results[0].bits), is) << text << after;
    }
  }
}

// An address or anything else but a sum takes no shift up.
TEST(Scale, LeavesProductsThatGoElsewhere) {
  Realm realm;
  auto module = testing::must_read(realm, R"(module m
func f(x: i64, y: i64, z: i64) -> i64 {
a:
  s = shl x, 1
  p = mul s, y
  r = add z, p
  t = xor r, p
  return t
}
)");
  const std::string before = write_text(*module);
  ASSERT_EQ(render(run_pipeline(*module, *read_pipeline("scale", standard_passes()))), "");
  EXPECT_EQ(write_text(*module), before);
}

}  // namespace
}  // namespace porphyry
