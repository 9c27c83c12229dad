// Neighbouring bytes that make one number: every way to write that down is one access, and what only looks
// like it stays as it is.
#include <fmt/format.h>
#include <gtest/gtest.h>

#include <algorithm>
#include <random>

#include "porphyry/eval/evaluator.h"
#include "porphyry/ir/clone.h"
#include "porphyry/passes/passes.h"
#include "support/measure.h"
#include "support/read.h"

namespace porphyry {
namespace {

// A function of memory and a number: loads of parts put together, or stores of them, in any order; some are
// spoiled.
struct JoinProgram {
  std::string text;
  size_t parts = 0;
  bool is_spoiled = false;
};

JoinProgram loads(std::mt19937_64& random, const char* layout) {
  JoinProgram out;
  const unsigned bits = 16u << random() % 3, part = std::min(8u << random() % 3, bits / 2);
  out.parts = bits / part;
  const bool upward = random() % 2 || part != 8;
  const bool lowest_first = upward == (std::string_view(layout) == "little");
  const size_t spoiled = random() % 4 ? 99 : random() % out.parts;
  out.is_spoiled = spoiled != 99;
  const char* sums[] = {"or", "add", "xor"};
  std::vector<size_t> order(out.parts);
  for (size_t k = 0; k < out.parts; ++k) order[k] = k;
  std::shuffle(order.begin(), order.end(), random);
  out.text = fmt::format("module m\nlayout {}\nfunc f(p: ptr, i: i64) -> i64 {{\na:\n", layout);
  std::string sum;
  for (size_t k : order) {
    const unsigned at = static_cast<unsigned>(k) * part;
    size_t place = lowest_first ? k : out.parts - 1 - k;
    if (k == spoiled) place += 4 * out.parts + 1;
    out.text += fmt::format("  l{0} = load i{1} [p + i*2 + {2}]\n", k, part, 8 + place * part / 8);
    const bool top = at + part == bits;
    out.text += fmt::format("  w{0} = widen.{3} i{1} l{0}\n  s{0} = shl w{0}, {2}\n", k, bits, at,
                            top && random() % 2 ? "s" : "u");
    if (sum.empty()) {
      sum = fmt::format("s{}", k);
      continue;
    }
    out.text += fmt::format("  t{0} = {1} {2}, s{0}\n", k, sums[random() % 3], sum);
    sum = fmt::format("t{}", k);
  }
  out.text += bits == 64 ? fmt::format("  return {}\n}}\n", sum)
                         : fmt::format("  r = widen.u i64 {}\n  return r\n}}\n", sum);
  return out;
}

JoinProgram stores(std::mt19937_64& random, const char* layout) {
  JoinProgram out;
  const unsigned bits = 16u << random() % 3, part = std::min(8u << random() % 3, bits / 2);
  out.parts = bits / part;
  const bool constants = random() % 2, upward = random() % 2 || part != 8;
  const bool lowest_first = upward == (std::string_view(layout) == "little");
  const size_t spoiled = random() % 4 ? 99 : random() % out.parts;
  out.is_spoiled = spoiled != 99 && !constants;
  std::vector<size_t> order(out.parts);
  for (size_t k = 0; k < out.parts; ++k) order[k] = k;
  std::shuffle(order.begin(), order.end(), random);
  out.text = fmt::format("module m\nlayout {}\nfunc f(p: ptr, i: i64) -> i64 {{\na:\n", layout);
  for (size_t k : order) {
    const size_t place = 8 + (lowest_first ? k : out.parts - 1 - k) * part / 8;
    if (constants) {
      out.text += fmt::format("  store {}:i{}, [p + i*2 + {}]\n", random() % 100, part, place);
      continue;
    }
    const unsigned at = static_cast<unsigned>(k) * part + (k == spoiled ? 1 : 0);
    out.text +=
        fmt::format("  h{0} = shr.u i, {1}\n  n{0} = narrow i{2} h{0}\n  store n{0}, [p + i*2 + {3}]\n", k,
                    at, part, place);
  }
  out.text += "  return i\n}\n";
  return out;
}

TEST(Join, MakesOneAccessOfNeighboursInAnyOrder) {
  std::mt19937_64 random(5);
  size_t joined = 0, left = 0;
  for (size_t round = 0; round < testing::part_of(1200); ++round) {
    const bool is_load = round % 2;
    const char* layout = round % 4 < 2 ? "little" : "big";
    const JoinProgram program = is_load ? loads(random, layout) : stores(random, layout);
    Realm realm;
    auto module = testing::must_read(realm, program.text), before = clone(*module);
    ASSERT_EQ(render(run_pipeline(*module, *read_pipeline("fold; join; sweep", standard_passes()),
                                  {.check_between = true})),
              "");
    const size_t accesses = testing::count_in_f(*module, is_load ? Op::Load : Op::Store);
    if (!program.is_spoiled) {
      ASSERT_EQ(accesses, 1u) << program.text << write_text(*module);
      ++joined;
    } else {
      ASSERT_GT(accesses, 1u) << program.text;
      ++left;
    }
    for (uint64_t i : {0u, 1u, 5u}) {
      std::vector<uint8_t> memory[2];
      Outcome ends[2];
      for (int side : {0, 1}) {
        for (int k = 0; k < 64; ++k) memory[side].push_back(static_cast<uint8_t>(37 * k + 200));
        Evaluator e(side ? *module : *before);
        const Datum data[] = {e.attach(memory[side], "piece"), {i}};
        ends[side] = e.call(Symbol(0), data);
        ASSERT_EQ(ends[side].end, Outcome::End::Result) << ends[side].message << program.text;
      }
      ASSERT_EQ(ends[0].results[0].bits, ends[1].results[0].bits) << program.text << write_text(*module);
      ASSERT_EQ(memory[0], memory[1]) << program.text << write_text(*module);
    }
  }
  EXPECT_GT(joined, 500u / testing::checked_part);
  EXPECT_GT(left, 100u / testing::checked_part);
}

// Bytes to the other end, by shifts and masks in either order.
TEST(Join, TurnsBytesRound) {
  std::mt19937_64 random(9);
  size_t turned = 0;
  for (size_t round = 0; round < testing::part_of(400); ++round) {
    const unsigned bits = 32u << random() % 2, bytes = bits / 8;
    const size_t spoiled = random() % 4 ? 99 : random() % bytes;
    std::vector<unsigned> order;
    for (unsigned k = 0; k < bytes; ++k) order.push_back(k);
    std::shuffle(order.begin(), order.end(), random);
    std::string text =
                    fmt::format("module m\nfunc f(p: ptr, y: i64) -> i64 {{\na:\n  x = narrow i{} y\n", bits),
                sum;
    if (bits == 64) text = "module m\nfunc f(p: ptr, y: i64) -> i64 {\na:\n  x = add y, 0\n";
    for (unsigned k : order) {
      const int up = static_cast<int>(bits - 8) - 16 * static_cast<int>(k);
      const unsigned to = bits - 8 - 8 * k;
      const std::string shift =
          up >= 0 ? fmt::format("shl {{}}, {}", up) : fmt::format("shr.u {{}}, {}", -up);
      const uint64_t wrong = k == spoiled ? 0x7f : 0xff;
      const bool bare = wrong == 0xff && (k == 0 || k + 1 == bytes) && random() % 2;
      if (bare)
        text += fmt::format("  t{0} = {1}\n", k, fmt::format(fmt::runtime(shift), "x"));
      else if (random() % 2)
        text += fmt::format("  m{0} = and x, {1}\n  t{0} = {2}\n", k, wrong << 8 * k,
                            fmt::format(fmt::runtime(shift), fmt::format("m{}", k)));
      else
        text += fmt::format("  m{0} = {2}\n  t{0} = and m{0}, {1}\n", k, wrong << to,
                            fmt::format(fmt::runtime(shift), "x"));
      if (!sum.empty()) text += fmt::format("  s{0} = {1} {2}, t{0}\n", k, random() % 2 ? "or" : "add", sum);
      sum = fmt::format("{}{}", sum.empty() ? "t" : "s", k);
    }
    text += bits == 64 ? fmt::format("  return {}\n}}\n", sum)
                       : fmt::format("  r = widen.u i64 {}\n  return r\n}}\n", sum);
    Realm realm;
    auto module = testing::must_read(realm, text), before = clone(*module);
    ASSERT_EQ(render(run_pipeline(*module, *read_pipeline("fold; join; sweep", standard_passes()))), "");
    if (spoiled == 99) {
      ASSERT_EQ(testing::count_in_f(*module, Op::ReverseBytes), 1u) << text << write_text(*module);
      ++turned;
    }
    for (uint64_t y :
         {uint64_t(0), uint64_t(0x0102030405060708), ~uint64_t(0), uint64_t(0x80ff017e55aa33cc)}) {
      Evaluator was(*before), is(*module);
      const Datum data[] = {{}, {y}};
      ASSERT_EQ(was.call(before->find("f"), data).results.at(0).bits,
                is.call(module->find("f"), data).results.at(0).bits)
          << text;
    }
  }
  EXPECT_GT(turned, 200u / testing::checked_part);
}

// Something in between that may see the difference.
TEST(Join, LeavesWhatIsInterrupted) {
  const char* between[] = {"store 1:i8, [q]", "call note()", "v = load i8 [q] volatile"};
  for (const char* line : between)
    for (bool is_load : {true, false}) {
      const std::string text =
          is_load
              ? fmt::format(
                    "module m\nextern func note()\nfunc f(p: ptr, q: ptr) -> i16 {{\na:\n  l = load i8 [p]\n "
                    " {}\n"
                    "  h = load i8 [p + 1]\n  wl = widen.u i16 l\n  wh = widen.u i16 h\n  s = shl wh, 8\n  r "
                    "= or s, wl\n"
                    "  return r\n}}\n",
                    line)
              : fmt::format(
                    "module m\nextern func note()\nfunc f(p: ptr, q: ptr) {{\na:\n  store 1:i8, [p]\n  {}\n"
                    "  store 2:i8, [p + 1]\n  return\n}}\n",
                    line);
      Realm realm;
      auto module = testing::must_read(realm, text);
      const size_t loads = testing::count_in_f(*module, Op::Load),
                   stores = testing::count_in_f(*module, Op::Store);
      ASSERT_EQ(render(run_pipeline(*module, *read_pipeline("join; sweep", standard_passes()))), "");
      const bool only_reads = std::string_view(line).starts_with("v = ");
      EXPECT_EQ(testing::count_in_f(*module, Op::Load), is_load && only_reads ? loads - 1 : loads) << text;
      EXPECT_EQ(testing::count_in_f(*module, Op::Store), stores) << text;
    }
}

}  // namespace
}  // namespace porphyry
