// Faults in rules: of every rule a wrong one is made, and what it does to its pattern is found by a check or
// by a proof; what the right ones do is not.
#include <gtest/gtest.h>

#include "porphyry/ask/check.h"
#include "porphyry/ir/clone.h"
#include "porphyry/passes/passes.h"
#include "porphyry/prove/functions.h"
#include "porphyry/rewrite/match.h"
#include "support/measure.h"
#include "support/pattern_writer.h"

namespace porphyry {
namespace {

using namespace rewrite;

// What stands for an operation in a wrong rule; itself where nothing does.
Op wrong_for(Op op) {
  constexpr std::pair<Op, Op> pairs[] = {{Op::Add, Op::Sub},   {Op::And, Op::Or},       {Op::Xor, Op::And},
                                         {Op::Shl, Op::ShrU},  {Op::ShrS, Op::ShrU},    {Op::MinS, Op::MaxS},
                                         {Op::MinU, Op::MaxU}, {Op::RotL, Op::RotR},    {Op::Neg, Op::Not},
                                         {Op::LtS, Op::LeS},   {Op::LtU, Op::LeU},      {Op::Eq, Op::Ne},
                                         {Op::Mul, Op::Add},   {Op::WidenS, Op::WidenU}};
  for (auto [a, b] : pairs)
    if (op == a || op == b) return op == a ? b : a;
  return op;
}

// A table with one rule that gives something else: another operation, a number that is one more, or 1 for a
// value.
class WrongTable {
 public:
  WrongTable(const RuleTable& right, size_t rule)
      : table_(right),
        terms_(right.terms.begin(), right.terms.end()),
        rules_(right.rules.begin(), right.rules.end()) {
    rules_[rule].becomes[0] = copied(rules_[rule].becomes[0]);
    table_.terms = terms_, table_.rules = rules_;
  }
  const RuleTable& table() const { return table_; }

 private:
  // The patterns keep their terms.
  uint16_t copied(uint16_t at) {
    Term t = terms_[at];
    const bool was_done = done_;
    if (t.kind == TermKind::Operation && !t.computed) {
      if (Op wrong = wrong_for(t.op); !done_ && wrong != t.op) t.op = wrong, t.promises = 0, done_ = true;
      for (unsigned k = 0; k < t.operand_count; ++k) t.operands[k] = copied(t.operands[k]);
    }
    if (!was_done && !done_ && !t.is_real) {
      if (t.kind == TermKind::Literal)
        ++t.number;
      else
        t = {.kind = TermKind::Literal, .type = t.type, .number = 1};
      done_ = true;
    }
    terms_.push_back(t);
    return static_cast<uint16_t>(terms_.size() - 1);
  }

  RuleTable table_;
  std::vector<Term> terms_;
  std::vector<Rule> rules_;
  bool done_ = false;
};

// Applies a rule where it fits; none that stands before it in the table.
Pass pass_with(const RuleTable& table, size_t rule, size_t& applied) {
  return {.name = "suspect", .doc = "", .run = [&table, rule, &applied](FunctionContext& c) {
            Matcher matcher(c.function, table);
            for (Block b : c.function.blocks())
              for (Instruction i = c.function.first(b), next; i.exists(); i = next) {
                next = c.function.next(i);
                auto m = matcher.match(i);
                if (!m || m->rule != &table.rules[rule]) continue;
                const auto results = matcher.apply(i, *m);
                for (Value v : results.results)
                  if (v.exists()) c.done({}, c.name(v), "the rule was applied", "it fits");
                ++applied;
              }
          }};
}

TEST(RuleFaults, AreFound) {
  const RuleTable& right = standard_rules();
  std::mt19937_64 random(11);
  size_t planted = 0, found = 0, alike = 0, unknown = 0;
  for (size_t k = 0; k < right.rules.size(); k += testing::checked_part) {
    const Rule& rule = right.rules[k];
    if (testing::rule_of_floats(rule) || rule.becomes[0] == no_term) continue;
    std::vector<std::vector<Type>> typings;
    testing::each_typing(right, rule, {{8, 32}, {8, 16, 32}, {8, 16}},
                         [&](const std::vector<Type>& types) { typings.push_back(types); });
    if (typings.empty()) continue;
    const WrongTable wrong(right, k);
    for (int round = 0; round < 12; ++round) {
      testing::PatternWriter writer(right, rule, typings[random() % typings.size()], random);
      if (!writer.write()) continue;
      size_t by_right = 0, by_wrong = 0;
      PassTable passes;
      passes.add(pass_with(right, k, by_right));
      // The other one needs a name of its own.
      Pass other = pass_with(wrong.table(), k, by_wrong);
      other.name = "wrong";
      passes.add(other);
      auto check = [&](const char* pass) {
        return check_passes(writer.module(), *read_pipeline(pass, passes),
                            {.inputs = {.count = 12, .attempts = 48}});
      };
      auto sound = check("suspect");
      if (!by_right) continue;
      ASSERT_TRUE(sound.good() && !sound->wrong) << rule.text;
      auto checked = check("wrong");
      if (!checked.good() || !by_wrong) continue;  // what it makes is no program
      ++planted;
      bool seen = checked->wrong.has_value();
      if (!seen) {
        auto after = clone(writer.module());
        run_pipeline(*after, *read_pipeline("wrong", passes));
        const Proof p = prove_same(writer.module(), *after, "f", {.seconds = 2});
        seen = p.verdict == Proof::Verdict::Different;
        alike += p.verdict == Proof::Verdict::Same;
        unknown += p.verdict == Proof::Verdict::Unknown;
      }
      found += seen;
      break;
    }
  }
  EXPECT_GT(planted, testing::part_of(300));
  EXPECT_EQ(found + alike + unknown, planted);
  EXPECT_LE(unknown, 2u);
  EXPECT_LE(alike, planted / 20);  // for some rules the wrong one is right, too
}

}  // namespace
}  // namespace porphyry
