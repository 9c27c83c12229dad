// Lanes that are computed one by one: whatever expression makes each of them, in whatever order they are put
// together, it is computed on lanes; where one of them is another, all stay as they are.
#include <fmt/format.h>
#include <gtest/gtest.h>

#include <algorithm>
#include <numeric>
#include <random>

#include "porphyry/eval/evaluator.h"
#include "porphyry/ir/clone.h"
#include "porphyry/passes/passes.h"
#include "support/measure.h"
#include "support/read.h"

namespace porphyry {
namespace {

// Writes expressions lane by lane.
class LanesApart {
 public:
  explicit LanesApart(std::mt19937_64& random) : random_(random), lanes_(pick({2u, 3u, 4u, 8u})) {}

  // A function that stores the lanes of such an expression; one of them spoiled, if that is wanted.
  std::string function(bool spoiled) {
    const std::string type = pick({"i8", "i16", "i32", "i64", "f32", "f64"});
    Names made = operation(type, 3);
    if (spoiled) {
      std::string& one = made[below(lanes_)];
      text_ += fmt::format("  q = {} {}\n", type[0] == 'f' ? "sqrt" : "not", one);
      one = "q";
    }
    std::vector<size_t> order(lanes_);
    std::iota(order.begin(), order.end(), size_t(0));
    std::shuffle(order.begin(), order.end(), random_);
    text_ += fmt::format("  r0 = splat {}[{}] {}\n", type, lanes_, made[order[0]]);
    for (size_t j = 1; j < lanes_; ++j)
      text_ += fmt::format("  r{} = put r{}, {}, {}\n", j, j - 1, order[j], made[order[j]]);
    return fmt::format(
        "module m\nlayout little\nfunc f(p: ptr, n: i64) {{\na:\n{}  store r{}, [p + 1024]\n  return\n}}\n",
        text_, lanes_ - 1);
  }

 private:
  using Names = std::vector<std::string>;  // by lane

  size_t below(size_t n) { return random_() % n; }
  template <class T>
  T pick(std::initializer_list<T> all) {
    return all.begin()[below(all.size())];
  }
  // The same for each lane, and what comes of it.
  template <class Write>
  Names each(Write write) {
    Names out;
    for (size_t k = 0; k < lanes_; ++k) {
      out.push_back(fmt::format("v{}", ++made_));
      text_ += fmt::format("  {} = {}\n", out.back(), write(k));
    }
    return out;
  }

  Names operation(const std::string& type, unsigned depth) {
    const bool is_float = type[0] == 'f';
    if (!is_float && below(4) == 0) {
      const int bits = std::stoi(type.substr(1)), other = pick({8, 16, 32, 64});
      if (other != bits) {
        const char* op = other > bits ? "narrow" : pick({"widen.u", "widen.s"});
        const Names from = any(fmt::format("i{}", other), depth - 1);
        return each([&](size_t k) { return fmt::format("{} {} {}", op, type, from[k]); });
      }
    }
    const char* op =
        is_float ? pick({"add", "sub", "mul"}) : pick({"add", "sub", "mul", "and", "xor", "min.s", "shl"});
    const Names a = lanes_of(type), b = any(type, depth - 1);
    return each([&](size_t k) { return fmt::format("{} {}, {}", op, a[k], b[k]); });
  }
  Names any(const std::string& type, unsigned depth) {
    if (depth && below(3)) return operation(type, depth);
    return below(2) ? lanes_of(type) : below(2) ? number(type) : constants(type);
  }
  // Of one or two values, in any order; these have more lanes than are taken, sometimes.
  Names lanes_of(const std::string& type) {
    const size_t there = lanes_ * (1 + below(2)), values = 1 + below(2), number = made_++;
    for (size_t k = 0; k < values; ++k)
      text_ += fmt::format("  l{}_{} = load {}[{}] [p + {}]\n", number, k, type, there, 64 * below(8));
    return each([&](size_t) { return fmt::format("lane l{}_{}, {}", number, below(values), below(there)); });
  }
  Names number(const std::string& type) {
    const std::string name = fmt::format("n{}", made_++);
    text_ += fmt::format("  {} = load {} [p + {}]\n", name, type, 8 * below(64));
    return Names(lanes_, name);
  }
  Names constants(const std::string& type) {
    Names out;
    for (size_t k = 0; k < lanes_; ++k)
      out.push_back(fmt::format("{}{}:{}", below(40), type[0] == 'f' ? ".5" : "", type));
    return out;
  }

  std::mt19937_64& random_;
  const size_t lanes_;
  size_t made_ = 0;
  std::string text_;
};

TEST(Regroup, ComputesLanesTogetherThatAreComputedAlike) {
  std::mt19937_64 random(11);
  size_t grouped = 0, left = 0;
  for (size_t round = 0; round < testing::part_of(2000); ++round) {
    const bool spoiled = random() % 4 == 0;
    const std::string text = LanesApart(random).function(spoiled);
    Realm realm;
    auto module = testing::must_read(realm, text);
    ASSERT_EQ(render(run_pipeline(*module, *read_pipeline("sweep", standard_passes()))), "");
    const auto before = clone(*module);
    ASSERT_EQ(render(run_pipeline(*module, *read_pipeline("regroup; sweep", standard_passes()),
                                  {.check_between = true})),
              "");
    const bool is_grouped = testing::count_in_f(*module, Op::Put) == 0;
    ASSERT_EQ(is_grouped, !spoiled) << text << write_text(*module);
    if (is_grouped) {
      ASSERT_EQ(testing::count_in_f(*module, Op::Lane), 0u) << text << write_text(*module);
    } else {
      ASSERT_EQ(write_text(*module), write_text(*before)) << "and nothing else";
    }
    ++(is_grouped ? grouped : left);
    std::vector<uint8_t> memory[2];
    for (int side : {0, 1}) {
      std::mt19937_64 bytes(round);
      for (int k = 0; k < 2048; ++k) memory[side].push_back(static_cast<uint8_t>(bytes()));
      Evaluator e(side ? *module : *before);
      const Datum data[] = {e.attach(memory[side], "piece"), {round}};
      const Outcome end = e.call(Symbol(0), data);
      ASSERT_EQ(end.end, Outcome::End::Result) << end.message << text;
    }
    ASSERT_EQ(memory[0], memory[1]) << text << write_text(*module);
  }
  EXPECT_GT(grouped, 1000u / testing::checked_part);
  EXPECT_GT(left, 300u / testing::checked_part);
}

// What is computed for someone else as well stays, and what may trap is not computed earlier or together.
TEST(Regroup, LeavesWhatHasOtherUses) {
  Realm realm;
  auto module = testing::must_read(realm, R"(module m
func f(x: i64[2], y: i64[2], p: ptr) -> i64[2] {
a:
  x0 = lane x, 0
  x1 = lane x, 1
  y0 = lane y, 0
  y1 = lane y, 1
  a = add x0, y0
  b = add x1, y1
  store b, [p]
  s = splat i64[2] a
  t = put s, 1, b
  c = div.u x0, y0
  d = div.u x1, y1
  u = splat i64[2] c
  v = put u, 1, d
  w = xor t, v
  return w
}
)");
  const std::string before = write_text(*module);
  ASSERT_EQ(render(run_pipeline(*module, *read_pipeline("regroup", standard_passes()))), "");
  EXPECT_EQ(write_text(*module), before);
}

}  // namespace
}  // namespace porphyry
