// `choose` as comparisons: random sets of cases, some in a row, some likelier than others, go where they did,
// and are met after no more comparisons than their numbers, or their weights, ask.
#include <fmt/format.h>

#include <cmath>
#include <map>
#include <random>
#include <set>

#include "porphyry/eval/evaluator.h"
#include "porphyry/machine/legalize.h"
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
    std::string out = fmt::format("module m\nfunc f(x: i{}) -> i32 {{\nenter:\n  choose x {{\n", bits_);
    for (auto& [number, c] : cases_)
      out += fmt::format("    {}: way{}{},\n", number, c.way, weight(c.weight));
    out += fmt::format("    else: way99{}\n  }}\n", weight(elsewhere_weight_));
    for (int w = 0; w < 100; ++w) out += fmt::format("way{0}:\n  return {0}\n", w);
    return out + "}\n";
  }

  uint64_t way(uint64_t number) const {
    auto c = cases_.find(number);
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
  bool has(uint64_t number) const { return cases_.contains(number); }
  size_t size() const { return cases_.size(); }

 private:
  struct Case {
    uint64_t way, weight;
  };
  std::mt19937_64& random_;
  bool weighted_;
  unsigned bits_;
  uint64_t mask_;
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

}  // namespace
}  // namespace porphyry
