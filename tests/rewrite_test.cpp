// The rewrite rules of `fold`: that they end, that each is right for all operands, that each is found and
// applied where its pattern stands, and what the reader of rules says of mistakes.
#include <gtest/gtest.h>

#include <atomic>
#include <random>
#include <thread>

#include "porphyry/eval/evaluator.h"
#include "porphyry/ir/pen.h"
#include "porphyry/passes/passes.h"
#include "porphyry/rewrite/match.h"
#include "porphyry/rewrite/read.h"
#include "support/measure.h"
#include "support/pattern_writer.h"
#include "support/process.h"
#include "support/read.h"
#include "support/rule_types.h"

namespace porphyry {
namespace {

using namespace rewrite;
using testing::RuleProof;

RuleBook read(const std::string& text) {
  SourceText source("test.rules", text);
  auto book = read_rules({&source, 1});
  EXPECT_TRUE(book.good()) << render(book.why());
  return book ? std::move(*book) : RuleBook();
}
std::string complaints(const std::string& text) {
  SourceText source("test.rules", text);
  auto book = read_rules({&source, 1});
  if (!book) return render(book.why());
  return render(rules_that_do_not_end(*book));
}

TEST(Rewrites, MistakesAreToldAllAtOnce) {
  std::string out = complaints(
      "for integers\n  add x, 0 becomes y\n  frob x becomes x\n  add x becomes x\n  sub x, y becomes y where "
      "{eq x, 1}\n"
      "  narrow x becomes 3 promise fits.s\n  neg x becomes x where T wider\n");
  for (const char* part :
       {"test.rules:2:20", "nothing in the pattern is called 'y'", "'frob' is no operation", "expected: ','",
        "'x' is no constant", "this does not belong to the sentence"})
    EXPECT_NE(out.find(part), std::string::npos) << part << "\n" << out;
}

// Damaged rules give diagnostics, or rules; never a crash.
TEST(Rewrites, DamagedRulesAreTold) {
  std::mt19937_64 random(13);
  std::string files[] = {testing::contents(PORPHYRY_ROOT "/src/passes/rules/conversions.rules"),
                         testing::contents(PORPHYRY_ROOT "/src/passes/rules/two_results.rules"),
                         testing::contents(PORPHYRY_ROOT "/src/passes/rules/picks.rules")};
  size_t told = 0, read = 0;
  for (size_t round = 0; round < testing::part_of(3000); ++round) {
    std::string text = files[round % 3];
    size_t from = random() % text.size();
    text = text.substr(from, 400);
    for (size_t k = 1 + random() % 4; k-- > 0 && !text.empty();) {
      size_t at = random() % text.size();
      switch (random() % 4) {
        case 0: text.erase(at, 1 + random() % 6); break;
        case 1: text.insert(at, 1, "(){},:-xCT0 \n."[random() % 14]); break;
        case 2: text.insert(at, text.substr(random() % text.size(), 12)); break;
        default: text[at] = static_cast<char>(random());
      }
    }
    SourceText source("damaged.rules", "for integers\n" + text);
    auto book = read_rules({&source, 1});
    if (book) rules_that_do_not_end(*book);
    book ? ++read : ++told;
    EXPECT_TRUE(book || !book.why()[0].message.empty());
  }
  EXPECT_GT(told, 100u / testing::checked_part);
  EXPECT_GT(read + told, 0u);
}

TEST(Rewrites, RulesThatUndoEachOtherAreRefused) {
  EXPECT_EQ(complaints("for integers\n  sub x, (neg y) becomes add x, y\n"), "");
  std::string out =
      complaints("for integers\n  add x, y becomes sub x, (neg y)\n  sub x, (neg y) becomes add x, y\n");
  EXPECT_NE(out.find("test.rules:2"), std::string::npos) << out;
  // Moving constants outwards ends only where what they pass is none.
  EXPECT_NE(complaints("for integers\n  add (add x, C), y becomes add (add x, y), C\n").find("are constants"),
            std::string::npos);
  EXPECT_EQ(
      complaints("for integers\n  add (add x, C), y becomes add (add x, y), C where x varies, y varies\n"),
      "");
}

TEST(Rewrites, EveryRuleIsRightForAllOperands) {
  const RuleTable& table = standard_rules();
  EXPECT_GE(table.rules.size(), 350u);
  std::atomic<size_t> next = 0, proved = 0, hard = 0;
  std::vector<std::string> wrong(table.rules.size());
  // Where addresses are checked, which slows the test and not the solver, a few questions do.
  testing::Widths widths = testing::tested_widths();
  if (testing::checked_part > 1) widths = {{3, 8, 16}, {2, 4}, {2, 3, 4}, false};
  auto work = [&] {
    for (size_t k; (k = next.fetch_add(testing::checked_part)) < table.rules.size();) {
      z3::context context;
      testing::RuleVerdict v = testing::prove_rule(context, table, table.rules[k], widths, 300);
      if (!v.refuted.empty()) wrong[k] = v.refuted;
      if (v.proved + v.hard.size() == 0) wrong[k] = "never applies";
      proved += v.hard.empty();
      hard += v.hard.size();
    }
  };
  std::thread other(work);
  work();
  other.join();
  for (size_t k = 0; k < wrong.size(); ++k) EXPECT_EQ(wrong[k], "") << table.rules[k].text;
  // What is too hard in so little time are products and quotients; scripts/prove takes longer.
  EXPECT_GE(proved, table.rules.size() / testing::checked_part * 9 / 10);
  RecordProperty("too hard", static_cast<int>(hard));
}

// A refuted rule comes with a program that shows it.
TEST(Rewrites, AWrongRuleIsRefutedByAProgram) {
  struct {
    const char* rule;
    unsigned width;
  } rows[] = {{"sub x, y becomes sub y, x", 8},
              {"div.s x, C becomes shr.s x, {ctz C} where {eq (popcount C), 1}, {gt.s C, 0}", 16},
              {"lt.s (add x, 1), y becomes le.s (add x, 0), y", 32},
              {"add x, 1 promise fits.u becomes add x, 1 promise fits.s", 8}};
  for (const auto& row : rows) {
    RuleBook book = read(std::string("for integers\n  ") + row.rule + "\n");
    ASSERT_EQ(book.rules.size(), 1u);
    RuleTable table = book.table();
    bool refuted = false;
    testing::Widths widths{{row.width}, {row.width}, {row.width}};
    testing::each_typing(table, table.rules[0], widths, [&](const std::vector<Type>& types) {
      z3::context context;
      RuleProof proof(context, table, table.rules[0], types);
      if (proof.run(10000, true) != RuleProof::Verdict::Refuted) return;
      refuted = true;
      // Both functions run on the arguments that stand in the program's own comments.
      testing::TemporaryFolder folder;
      std::string path = folder.write("wrong_rule.por", proof.counterexample);
      std::string answers[2];
      for (int k = 0; k < 2; ++k) {
        std::string call = k ? "-- run after " : "-- run before ";
        size_t from = proof.counterexample.find(call) + call.size();
        std::string arguments =
            proof.counterexample.substr(from, proof.counterexample.find('\n', from) - from);
        answers[k] = testing::run_command(PORPHYRY_TOOL " run " + path + (k ? " after " : " before ") +
                                          arguments + " 2>&1")
                         .out;
      }
      EXPECT_NE(answers[0], answers[1]) << proof.counterexample;
    });
    EXPECT_TRUE(refuted) << row.rule;
  }
}

// ---- found and applied ------------------------------------------------------------------------------------

// NaNs are alike, and where the sign of a zero may be either, it is not looked at.
std::string outcome_text(const Outcome& o, Type type, bool signs_of_zeros) {
  std::string out = o.end == Outcome::End::Result ? "result" : o.end == Outcome::End::Trap ? "trap" : "other";
  for (Datum d : o.results) {
    double number = type == Type::f64()   ? std::bit_cast<double>(d.bits)
                    : type == Type::f32() ? std::bit_cast<float>(static_cast<uint32_t>(d.bits))
                                          : 0;
    if (std::isnan(number)) d.bits = 1;
    if (!signs_of_zeros && (d.bits == 0x80000000 || d.bits == uint64_t(1) << 63)) d.bits = 0;
    out += fmt::format(" {:x}:{:x}", d.high, d.bits);
  }
  return out;
}

// Where a pattern stands some rule is found, and the evaluator cannot tell the difference: for each rule, at
// each of its types and in lanes.
TEST(Rewrites, EachIsFoundAndMeansTheSame) {
  const RuleTable& table = standard_rules();
  std::mt19937_64 random(7);
  size_t found_in_all = 0;
  for (const Rule& rule : table.rules) {
    bool needs_facts = false, found = false;
    for (unsigned k = 0; k < rule.condition_count; ++k)
      needs_facts |= table.conditions[rule.first_condition + k].kind == ConditionKind::Known;
    testing::Widths widths{{2, 8, 13, 32, 64, 128}, {8, 32, 64}, {8, 16, 32}};
    std::vector<std::vector<Type>> typings;
    testing::each_typing(table, rule, widths,
                         [&](const std::vector<Type>& types) { typings.push_back(types); });
    if (testing::rule_of_floats(rule))
      for (Type t : {Type::f32(), Type::f64()}) {
        std::vector<Type> types(rule.type_count);
        for (unsigned k = 0; k < rule.type_count; ++k)
          types[k] = table.types[rule.first_type + k].relation == Relation::Free ? t : Type();
        if (testing::RuleTypes(table, rule).settle(types)) typings.push_back(types);
      }
    std::vector<std::vector<Type>> with_lanes;
    for (auto types : typings) {
      for (Type& t : types) t = t.has_lanes() ? Type() : t.with_lanes(3);
      if (std::all_of(types.begin(), types.end(), [](Type t) { return t.is_valid(); }))
        with_lanes.push_back(types);
    }
    if (!testing::rule_of_lanes(table, rule.pattern))
      typings.insert(typings.end(), with_lanes.begin(), with_lanes.end());
    ASSERT_FALSE(typings.empty()) << rule.text;
    for (int round = 0; round < 60 && (round < 6 || !found); ++round) {
      testing::PatternWriter writer(table, rule, typings[random() % typings.size()], random);
      if (!writer.write()) continue;
      std::string before_text = write_text(writer.module());
      Function before(writer.function());
      Function& f = writer.function();
      std::vector<Datum> arguments;
      std::vector<std::string> answers;
      auto run_all = [&](std::vector<std::string>& out, uint64_t seed) {
        std::mt19937_64 r(seed);
        for (int k = 0; k < 12; ++k) {
          arguments.clear();
          for (Type t : f.signature().parameters)
            for (unsigned lane = 0; lane < t.lanes(); ++lane) {
              Bits b = Bits(r()) << 64 | r();
              if (k % 3 == 0) b = b % 4;
              if (t.is_float()) {
                // Without zeros where a NaN would make the result arbitrary.
                bool nonan = table.terms[rule.pattern].permits & permit::nonan;
                double d = nonan ? double(1 + r() % 8) : double(int(r() % 9)) - 4;
                b = t.bits() == 64 ? std::bit_cast<uint64_t>(d)
                                   : std::bit_cast<uint32_t>(static_cast<float>(d));
              }
              arguments.push_back(Datum::of(b & mask_of(t.bits())));
            }
          Evaluator evaluator(writer.module());
          Outcome o = evaluator.call(Symbol(0), arguments);
          // A broken promise binds nothing.
          out.push_back(o.end == Outcome::End::Fault
                            ? ""
                            : outcome_text(o, f.signature().results[0].element(),
                                           !(table.terms[rule.pattern].permits & permit::nozerosign)));
        }
      };
      uint64_t seed = random();
      run_all(answers, seed);
      uint64_t changes = f.changes();
      ASSERT_TRUE(run_pipeline(writer.module(), *read_pipeline("fold"), {.check_between = true}).empty())
          << before_text;
      found |= f.changes() != changes;
      std::vector<std::string> after;
      run_all(after, seed);
      for (size_t k = 0; k < after.size(); ++k) {
        if (answers[k].empty()) continue;
        ASSERT_EQ(answers[k], after[k]) << rule.text << "\n" << before_text << write_text(writer.module());
      }
    }
    found_in_all += found;
    EXPECT_TRUE(found || needs_facts) << rule.text;
  }
  EXPECT_GE(found_in_all, table.rules.size() * 9 / 10);
}

}  // namespace
}  // namespace porphyry
