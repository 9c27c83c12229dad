// Traces tell what each operation computes, by another way than the evaluator's; two forms differ where they
// do.
#include <gtest/gtest.h>

#include "porphyry/ask/trace_code.h"
#include "porphyry/ir/clone.h"
#include "porphyry/passes/passes.h"
#include "porphyry/print/literals.h"
#include "porphyry/sample/sample.h"
#include "porphyry/targets/targets.h"
#include "support/measure.h"
#include "support/process.h"
#include "support/read.h"

namespace porphyry {
namespace {

// The words of a run's calls, as `run` takes them.
WrittenCall call_of(const Sample& program) {
  WrittenCall out{std::string(program.module->symbol_name(program.main)), {"random:256:i8:4"}};
  size_t at = 0;
  const auto& types = program.module->function(program.main).signature().parameters;
  for (size_t k = 1; k < types.size(); ++k) {
    out.words.push_back(text::literal_text({program.arguments.data() + at, types[k].words()}, types[k]));
    at += types[k].words();
  }
  return out;
}

// Each plain value is what `compute` makes of the values that its operands had last, in the same call.
TEST(Trace, EachValueFollowsFromTheOnesBefore) {
  size_t computed = 0, passed = 0;
  for (uint64_t seed = 1; seed <= testing::part_of(64); ++seed) {
    Realm realm;
    Sample program = make_sample(realm, {.seed = seed, .lanes = 30});
    const Module& m = *program.module;
    std::map<std::pair<size_t, uint32_t>, std::vector<Datum>> last;  // by depth and value
    auto value = [&](const Observation& seen, Value v) -> std::vector<Datum> {
      const Function& f = m.function(seen.function);
      if (!f.is_constant(v)) return last[{seen.depth, v.index}];
      std::vector<Datum> out;
      for (unsigned lane = 0; lane < f.type(v).lanes(); ++lane)
        out.push_back(Datum::of(f.constant_word(v, lane)));
      return out;
    };
    RunLimits limits{.steps = 20'000};
    limits.follow = [&](const Observation& seen) {
      const Function& f = m.function(seen.function);
      if (!seen.value.exists()) return;
      std::vector<Datum> now(seen.lanes.begin(), seen.lanes.end());
      last[{seen.depth, seen.value.index}] = now;
      if (f.kind(seen.value) == ValueKind::BlockParameter) {
        for (Edge e : f.edges(seen.at)) passed += f.to(e) == f.defining_block(seen.value);
        return;
      }
      if (!seen.at.exists() || info(f.op(seen.at)).layout > Layout::Convert || f.permits(seen.at)) return;
      if (f.result_count(seen.at) != 1 || f.op(seen.at) == Op::Bits) return;
      Type result = f.type(seen.value);
      if (result.is_pointer() || f.op(seen.at) == Op::Pick) return;
      for (unsigned lane = 0; lane < result.lanes(); ++lane) {
        Bits in[3] = {};
        for (size_t k = 0; k < f.operand_count(seen.at); ++k)
          in[k] = f.type(f.operand(seen.at, k)).is_pointer()
                      ? Bits(value(seen, f.operand(seen.at, k))[lane].bits)
                      : value(seen, f.operand(seen.at, k))[lane].word();
        Type operand = f.type(f.operand(seen.at, 0)).element();
        Computed c = compute(f.op(seen.at), operand, result.element(), {in, f.operand_count(seen.at)});
        ASSERT_TRUE(c.bits == now[lane].word()) << seed << ": " << write_text(m, f, seen.at);
        ++computed;
      }
    };
    Seen followed = evaluate(m, call_of(program), limits);
    limits.follow = {};
    Seen plain = evaluate(m, call_of(program), limits);
    EXPECT_EQ(followed.text(), plain.text());
    EXPECT_EQ(followed.steps, plain.steps);
  }
  EXPECT_GT(computed, testing::part_of(5'000));
  EXPECT_GT(passed, testing::part_of(100));
}

// Of every value that the code still has, machine code makes what the program says, at each stage.
TEST(Trace, OfCodeHoldsTheValuesOfTheProgram) {
  const auto& target = *native_target();
  std::map<CodeStage, size_t> paired;
  for (uint64_t seed = 1; seed <= testing::part_of(200); ++seed) {
    Realm realm;
    Sample program = make_sample(realm, {.seed = seed, .layout = target.layout, .lanes = 30});
    if (seed % 2) run_pipeline(*program.module, level_named("-O1")->pipeline());
    TraceOptions options{.most = 3'000};
    options.limits = {.steps = 20'000};
    const WrittenCall call = call_of(program);
    // What is legal stays as it is when it is lowered, names that are numbers as well.
    const auto lowered = machine::lower(*program.module, target);
    auto meant = trace(*lowered->legal, call, options);
    if (!meant.good()) continue;  // it takes its arguments in parts
    if (meant->seen.end != Outcome::End::Result) continue;
    for (CodeStage stage : {CodeStage::Selected, CodeStage::Allocated, CodeStage::Encoded}) {
      options.limits.steps = 1'000'000;
      auto code = trace_code(*lowered->legal, target, call, {stage, options, {}});
      ASSERT_TRUE(code.good());
      ASSERT_FALSE(code->lines.empty());
      auto both = compare_traces(*meant, std::move(*code));
      EXPECT_EQ(both.deviation, "") << seed;
      for (const TracePair& p : both.pairs) {
        if (p.left == TracePair::none || p.right == TracePair::none) continue;
        const TraceLine &l = both.left.lines[p.left], &r = both.right.lines[p.right];
        ASSERT_FALSE(p.differs) << seed << " " << static_cast<int>(stage) << ": " << l.text << " and "
                                << r.text;
        paired[stage] += !l.value.empty();
      }
    }
  }
  for (const auto& [stage, count] : paired) EXPECT_GT(count, testing::part_of(2'000));
}

TEST(Trace, OfSoundPassesEndsAlike) {
  for (uint64_t seed = 1; seed <= 30; ++seed) {
    Realm realm;
    Sample program = make_sample(realm, {.seed = seed});
    auto after = clone(*program.module);
    run_pipeline(*after, level_named("-O2")->pipeline());
    TraceOptions options{.most = 400};
    options.limits.steps = 20'000;
    auto both = trace_against(*program.module, *after, call_of(program), options);
    ASSERT_TRUE(both.good());
    EXPECT_EQ(both->deviation, "") << seed;
    size_t left = 0, right = 0;  // every line of both, once and in order
    for (const TracePair& p : both->pairs) {
      EXPECT_TRUE(p.left == TracePair::none || p.left == left++);
      EXPECT_TRUE(p.right == TracePair::none || p.right == right++);
    }
    EXPECT_EQ(left, both->left.lines.size());
    EXPECT_EQ(right, both->right.lines.size());
  }
}

TEST(Trace, PointsAtTheFirstDifference) {
  Realm one, two;
  const char* right = "(n: i32) -> i32";
  auto good = testing::must_read(
      one, testing::in_function(right, "  a = add n, 1\n  q = div.s a, 2\n  r = mul q, 3\n  return r\n"));
  auto wrong = testing::must_read(
      two, testing::in_function(right, "  a = add n, 1\n  q = shr.s a, 1\n  r = mul q, 3\n  return r\n"));
  auto same = trace_against(*good, *wrong, {"f", {"5"}});
  ASSERT_TRUE(same.good());
  EXPECT_EQ(same->first_difference, TracePair::none);
  EXPECT_EQ(same->deviation, "");
  auto both = trace_against(*good, *wrong, {"f", {"-6"}});
  ASSERT_NE(both->first_difference, TracePair::none);
  const TracePair& first = both->pairs[both->first_difference];
  EXPECT_EQ(both->left.lines[first.left].value, "q");
  EXPECT_EQ(number_forms(Type::integer(32), both->left.lines[first.left].words)[0].decimal,
            "4294967294 (-2)");
  EXPECT_EQ(number_forms(Type::integer(32), both->right.lines[first.right].words)[0].decimal,
            "4294967293 (-3)");
  EXPECT_EQ(both->deviation, "-9 instead of -6");
}

TEST(Trace, NumbersInAllForms) {
  auto forms = [](Type t, Bits v) {
    std::vector<uint64_t> words = {static_cast<uint64_t>(v), static_cast<uint64_t>(v >> 64)};
    return number_forms(t, {words.data(), t.words()})[0];
  };
  EXPECT_EQ(forms(Type::integer(8), 0xfd).decimal, "253 (-3)");
  EXPECT_EQ(forms(Type::integer(8), 0xfd).hex, "0xfd");
  EXPECT_EQ(forms(Type::integer(12), 5).bits, "0000_00000101");
  EXPECT_EQ(forms(Type::f32(), 0xc1200000).parts, "-1.25 * 2^3");
  EXPECT_EQ(forms(Type::f32(), 0x80000000).parts, "-0");
  EXPECT_EQ(forms(Type::f32(), 1).parts, "+1.1920928955078125e-07 * 2^-126 (subnormal)");
  EXPECT_EQ(forms(Type::f64(), 0x7ff8000000000001).parts, "+NaN with payload 0x8000000000001");
  EXPECT_EQ(forms(Type::f64(), 0xfff0000000000000).parts, "-infinity");
  EXPECT_EQ(forms(Type::integer(100), Bits(1) << 64 | 2).hex, "0x10000000000000002");
}

}  // namespace
}  // namespace porphyry
