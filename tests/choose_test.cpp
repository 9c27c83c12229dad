// `choose` as comparisons: random sets of cases, some in a row, some likelier than others, go where they did,
// and are met after no more comparisons than their numbers, or their weights, ask. Loops that choose by a
// jump table: each case has a jump of its own, and random programs of such machines compute what they did.
#include <fmt/format.h>

#include <cmath>
#include <map>
#include <random>
#include <set>

#include "porphyry/eval/evaluator.h"
#include "porphyry/jit/jit.h"
#include "porphyry/machine/legalize.h"
#include "porphyry/machine/listing.h"
#include "porphyry/passes/passes.h"
#include "porphyry/render/listing.h"
#include "porphyry/targets/targets.h"
#include "support/measure.h"
#include "support/read.h"

namespace porphyry {
namespace {

// A function that tells by a number which way it went.
class RandomChoice {
 public:
  RandomChoice(std::mt19937_64& random, bool weighted) : random_(random), weighted_(weighted) {
    const unsigned widths[] = {5, 8, 16, 32, 64};
    bits_ = widths[random() % 5];
    mask_ = bits_ == 64 ? ~uint64_t(0) : (uint64_t(1) << bits_) - 1;
    known_ = mask_ >> (random() % 3 ? 0 : random() % bits_);
    size_t count = random() % (bits_ == 5 ? 30 : random() % 8 ? 100 : 3000);
    uint64_t at = random() & mask_;
    for (size_t k = 0; k < count; ++k) {
      at = (random() % 3 ? at + 1 + random() % 3 : random()) & mask_;  // near the last one, or anywhere
      // A few cases take most of the runs, many none.
      uint64_t weight = random() % 3 == 0 ? 0 : random() % 8 ? random() % 100 : uint64_t(1) << random() % 30;
      cases_.try_emplace(at, Case{random() % 4 ? lowerings_ : random() % 50, weight});
      lowerings_ = random() % 2 ? lowerings_ : random() % 50;
    }
    elsewhere_weight_ = random() % 1000;
  }

  std::string text() const {
    auto weight = [&](uint64_t w) { return weighted_ ? fmt::format(" {}", w) : ""; };
    std::string out = fmt::format("module m\nfunc f(x: i{}) -> i32 {{\nenter:\n", bits_);
    if (known_ != mask_) out += fmt::format("  k = and x, {}\n", known_);
    out += fmt::format("  choose {} {{\n", known_ == mask_ ? "x" : "k");
    for (auto& [number, c] : cases_)
      out += fmt::format("    {}: way{}{},\n", number, c.way, weight(c.weight));
    out += fmt::format("    else: way99{}\n  }}\n", weight(elsewhere_weight_));
    for (int w = 0; w < 100; ++w) out += fmt::format("way{0}:\n  return {0}\n", w);
    return out + "}\n";
  }

  uint64_t way(uint64_t number) const {
    auto c = cases_.find(number & known_);
    return c == cases_.end() ? 99 : c->second.way;
  }
  // The cases, and the numbers beside them.
  std::set<uint64_t> numbers() const {
    std::set<uint64_t> out{random_() & mask_};
    for (auto& [number, c] : cases_)
      for (uint64_t near : {number, number - 1, number + 1}) out.insert(near & mask_);
    return out;
  }
  double weight(uint64_t number) const { return static_cast<double>(cases_.at(number).weight); }
  double all_weights() const {
    double sum = static_cast<double>(elsewhere_weight_);
    for (auto& [number, c] : cases_) sum += static_cast<double>(c.weight);
    return sum;
  }
  bool has(uint64_t number) const { return number == (number & known_) && cases_.contains(number); }
  size_t size() const { return cases_.size(); }

 private:
  struct Case {
    uint64_t way, weight;
  };
  std::mt19937_64& random_;
  bool weighted_;
  unsigned bits_;
  uint64_t mask_, known_;  // bits that x has; that may be set where it is chosen by
  uint64_t lowerings_ = 7, elsewhere_weight_ = 0;
  std::map<uint64_t, Case> cases_;
};

TEST(Choose, GoesWhereItDidAfterFewComparisons) {
  std::mt19937_64 random(11);
  for (size_t round = 0; round < testing::part_of(240); ++round) {
    bool weighted = round % 2;
    RandomChoice choice(random, weighted);
    Realm realm;
    auto module = testing::must_read(realm, choice.text());
    machine::Coverage coverage(*native_target(), native_target()->usual_features);
    machine::legalize(*module, *native_target(), coverage,
                      {.pipeline = machine::legalization().until("branches")});
    ASSERT_TRUE(verify(*module).empty()) << render(verify(*module));
    Evaluator after(*module);
    double logarithm = std::log2(static_cast<double>(choice.size()) + 1), most = 0, sum = 0, asked = 0;
    for (uint64_t number : choice.numbers()) {
      Datum x{.bits = number};
      Outcome is = after.call(Symbol(0), {&x, 1});
      ASSERT_EQ(is.end, Outcome::End::Result) << is.message;
      ASSERT_EQ(uint64_t(is.results[0].bits), choice.way(number)) << number << " in\n" << choice.text();
      double comparisons = static_cast<double>(is.steps) / 2;  // with their branches; some subtract before
      most = std::max(most, comparisons);
      if (!choice.has(number) || choice.weight(number) == 0) continue;
      double w = choice.weight(number);
      sum += w * comparisons, asked += w * std::log2(choice.all_weights() / w);
    }
    double all = choice.all_weights();
    EXPECT_LE(most, logarithm + (weighted ? 9 : 5)) << choice.size() << " cases";
    if (weighted) {
      EXPECT_LE(sum, asked + 5 * all) << choice.size() << " cases, " << sum / all << " for " << asked / all;
    }
  }
}

// No comparison asks whether a number lies in a table's reach where that is known, and the table has a place
// for each.
TEST(Choose, AsksNothingThatIsKnown) {
  for (unsigned least : {0u, 1u, 3u})
    for (unsigned bits = 4; bits <= 8; ++bits) {
      std::string text = fmt::format(
          "module m\nfunc f(x: i32) -> i32 {{\nenter:\n  k = and x, {}\n  choose k {{\n", (1u << bits) - 1);
      for (unsigned n = least; n < 12; ++n) text += fmt::format("    {0}: way{0},\n", n);
      text += "    else: other\n  }\nother:\n  return 99\n";
      for (unsigned n = least; n < 12; ++n) text += fmt::format("way{0}:\n  return {0}\n", n);
      Realm realm;
      auto module = testing::must_read(realm, text + "}\n");
      machine::Coverage coverage(*native_target(), native_target()->usual_features);
      machine::legalize(*module, *native_target(), coverage,
                        {.pipeline = machine::legalization().until("branches")});
      const Function& f = module->function(Symbol(0));
      size_t asks = 0;
      for (Block b : f.blocks()) asks += f.op(f.terminator(b)) == Op::When;
      const bool fits = (1u << bits) <= 4 * (12 - least);
      EXPECT_EQ(asks, fits ? 0u : 1u) << least << " of " << bits << " bits";
      Evaluator is(*module);
      for (uint64_t x = 0; x < 300; ++x) {
        Datum d{.bits = x};
        const uint64_t k = x & ((1u << bits) - 1);
        ASSERT_EQ(uint64_t(is.call(Symbol(0), {&d, 1}).results[0].bits), k >= least && k < 12 ? k : 99);
      }
    }
}

// A machine with two registers, run over a program of bytes: some cases stop, some do something several
// blocks long, some work in a loop.
std::string machine_text(uint64_t seed, unsigned cases, bool test_first) {
  std::mt19937_64 random(seed);
  const char* operations[] = {"add {}, {}", "sub {}, {}", "xor {}, {}",
                              "mul {}, 3",  "rotl {}, 5", "and {}, {}"};
  std::string text =
      fmt::format("module m\nfunc f(program: ptr, n: i64) -> i64 {{\nenter:\n  go {0}\n", "top(0, 7, 1)");
  const std::string chosen =
      fmt::format("  code = load i8 [program + i]\n  k = and code, {}\n  i2 = add i, 1\n  choose k {{\n",
                  cases <= 8 ? 7 : 31);
  text += test_first ? "top(i: i64, a: i64, b: i64):\n  more = lt.s i, n\n  when more go at else stop\nat:\n"
                     : "top(i: i64, a: i64, b: i64):\n";
  text += chosen;
  for (unsigned c = 0; c < cases; ++c) text += fmt::format("    {0}: case{0},\n", c);
  text += "    else: top(i2, a, b)\n  }\nstop:\n  s = add a, b\n  return s\n";
  for (unsigned c = 0; c < cases; ++c) {
    text += fmt::format("case{}:\n", c);
    if (c == 0 || random() % 12 == 0) {
      text += "  go stop\n";
      continue;
    }
    text += fmt::format("  x{} = {}\n", c, fmt::format(fmt::runtime(operations[random() % 6]), "a", "b"));
    text += fmt::format("  y{} = {}\n", c, fmt::format(fmt::runtime(operations[random() % 6]), "b", "a"));
    switch (random() % 5) {
      case 0: text += fmt::format("  go top(i2, y{0}, x{0})\n", c); break;
      case 1:
        text += fmt::format(
            "  c{0} = lt.s x{0}, y{0}\n  when c{0} go top(i2, y{0}, b) else top(i2, x{0}, b)\n", c);
        break;
      case 2:
        text += fmt::format(
            "  go loop{0}(3, a)\nloop{0}(k{0}: i64, l{0}: i64):\n  m{0} = add l{0}, x{0}\n  d{0} = sub k{0}, "
            "1\n"
            "  e{0} = ne d{0}, 0\n  when e{0} go loop{0}(d{0}, m{0}) else top(i2, m{0}, y{0})\n",
            c);
        break;
      default: text += fmt::format("  go top(i2, x{0}, b)\n", c);
    }
  }
  return text + "}\n";
}

TEST(Choose, EachCaseOfAMachineJumpsOnByItself) {
  size_t jumps = 0, alone = 0;
  for (uint64_t seed = 0; seed < testing::part_of(120); ++seed) {
    const unsigned cases = 5 + static_cast<unsigned>(seed * 7 % 24);
    Realm realm;
    const std::string text = machine_text(seed, cases, seed % 2);
    auto module = testing::must_read(realm, text);
    if (seed % 3) run_pipeline(*module, level_named(seed % 3 == 1 ? "-O1" : "-O2")->pipeline());
    Evaluator evaluator(*module);
    for (bool repeat : {false, true}) {
      const machine::LowerOptions options{.check_allocation = true,
                                          .schedule = seed % 4 < 2,
                                          .align_loops = seed % 5 < 3,
                                          .repeat_tails = repeat,
                                          .explain = seed % 6 == 0};
      auto lowered = machine::lower(*module, *native_target(), options);
      ASSERT_TRUE(lowered.good()) << render(lowered.why());
      const std::string listing =
          render(machine::make_listing(*lowered, lowered->functions[0], *native_target()), false, false);
      std::set<std::string> labels;
      for (const auto& b : machine::make_listing(*lowered, lowered->functions[0], *native_target()).blocks) {
        EXPECT_TRUE(labels.insert(b.label).second) << b.label << " twice in\n" << listing;
        for (const auto& l : b.lines) (repeat ? jumps : alone) += l.text.starts_with("jmp r");
      }
      auto jit = Jit::compile(*module, *native_target(), options);
      ASSERT_TRUE(jit.good()) << render(jit.why());
      std::mt19937_64 random(seed);
      for (int round = 0; round < 20; ++round) {
        std::vector<uint8_t> program(200);
        for (uint8_t& b : program) b = static_cast<uint8_t>(random() % 32 ? random() | 1 : 0);
        program.back() = 0;
        const size_t n = seed % 2 ? random() % program.size() : program.size();
        Datum arguments[] = {evaluator.attach(program, "program"), Datum{.bits = n}};
        const Outcome is = evaluator.call(Symbol(0), arguments);
        ASSERT_EQ(is.end, Outcome::End::Result) << is.message;
        auto f = (*jit)->function<int64_t(const uint8_t*, int64_t)>("f");
        ASSERT_EQ(uint64_t((*f)(program.data(), int64_t(n))), uint64_t(is.results[0].bits)) << listing;
      }
    }
  }
  EXPECT_GT(jumps, 5 * alone);
}

// A loop whose body goes one of several ways by bits of what it reads, all of which come together in one
// block where the round ends.
std::string branching_text(uint64_t seed, unsigned ways) {
  std::mt19937_64 random(seed);
  const char* operations[] = {"add a, b", "sub b, a", "xor a, b", "mul a, 3", "rotl b, 5", "and a, b"};
  std::string text =
      "module m\nfunc f(program: ptr, n: i64) -> i64 {\nenter:\n  go top(0, 7, 1)\n"
      "top(i: i64, a: i64, b: i64):\n  code = load i8 [program + i]\n  go ask0\n";
  for (unsigned w = 0; w < ways; ++w)
    text += fmt::format(
        "ask{0}:\n  bit{0} = and code, {1}\n  set{0} = ne bit{0}, 0\n  when set{0} go way{0} else {2}\n"
        "way{0}:\n  x{0} = {3}\n  y{0} = {4}\n  go next(x{0}, y{0})\n",
        w, 1u << w, w + 1 < ways ? fmt::format("ask{}", w + 1) : "next(b, a)", operations[random() % 6],
        operations[random() % 6]);
  return text +
         "next(c: i64, d: i64):\n  i2 = add i, 1\n  more = lt.s i2, n\n  when more go top(i2, c, d) else "
         "stop\n"
         "stop:\n  s = add c, d\n  return s\n}\n";
}

TEST(Choose, RoundsEndWithoutAJumpToTheirEnd) {
  size_t jumps[2] = {};
  for (uint64_t seed = 0; seed < testing::part_of(60); ++seed) {
    Realm realm;
    auto module = testing::must_read(realm, branching_text(seed, 1 + seed % 3));
    if (seed % 2) run_pipeline(*module, level_named("-O1")->pipeline());
    Evaluator evaluator(*module);
    for (bool repeat : {false, true}) {
      const machine::LowerOptions options{.check_allocation = true, .repeat_tails = repeat};
      auto jit = Jit::compile(*module, *native_target(), options);
      ASSERT_TRUE(jit.good()) << render(jit.why());
      const auto& lowered = (*jit)->lowered();
      for (const auto& b : machine::make_listing(lowered, lowered.functions[0], *native_target()).blocks)
        for (const auto& l : b.lines) jumps[repeat] += l.text == "jmp next";
      std::mt19937_64 random(seed);
      std::vector<uint8_t> program(1 + seed % 90);
      for (uint8_t& b : program) b = static_cast<uint8_t>(random());
      Datum arguments[] = {evaluator.attach(program, "program"), Datum{.bits = program.size()}};
      const Outcome is = evaluator.call(Symbol(0), arguments);
      auto f = (*jit)->function<int64_t(const uint8_t*, int64_t)>("f");
      ASSERT_EQ(uint64_t((*f)(program.data(), int64_t(program.size()))), uint64_t(is.results[0].bits));
    }
  }
  EXPECT_GT(jumps[false], testing::part_of(60));
  EXPECT_EQ(jumps[true], 0u);
}

}  // namespace
}  // namespace porphyry
