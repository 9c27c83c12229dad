// Legalization on its own: every operation at every width, the helpers against the C library and wide
// arithmetic, and the simulator's ways to end.
#include <fmt/format.h>
#include <gtest/gtest.h>

#include <bit>
#include <cmath>
#include <random>

#include "porphyry/analyze/verify.h"
#include "porphyry/base/files.h"
#include "porphyry/eval/evaluator.h"
#include "porphyry/formats/text.h"
#include "porphyry/ir/clone.h"
#include "porphyry/ir/pen.h"
#include "porphyry/ir/typing.h"
#include "porphyry/machine/legalize.h"
#include "porphyry/machine/lower.h"
#include "porphyry/machine/passing_data.h"
#include "porphyry/print/print.h"
#include "porphyry/render/diagnostics.h"
#include "porphyry/sample/cases.h"
#include "porphyry/simulate/run.h"
#include "porphyry/targets/targets.h"
#include "support/legal_cases.h"
#include "support/measure.h"
#include "support/targets.h"

namespace porphyry {
namespace {

using namespace machine;
using testing::target;

void compare(const std::vector<OperationCase>& all, std::mt19937_64& random, int rounds) {
  Coverage coverage(target(), random() % 2 ? target().usual_features : Features(0));
  testing::compare_legalized(all, target(), coverage, random, rounds);
}

TEST(Legalize, EveryOperationAtEveryWidthMeansTheSame) {
  std::mt19937_64 random(17);
  for (unsigned w = 2; w <= 128; w += testing::checked_part) {
    unsigned other = 2 + static_cast<unsigned>(random() % 127);
    compare(operation_cases(Type::integer(w), Type::integer(other == w ? w % 128 + 1 + (w == 128) : other)),
            random, 12);
    if (HasFatalFailure()) return;
  }
}

// A target is brought up rule by rule: whatever its book does not have yet is said in what it has.
class PoorTarget {
 public:
  // Without each rule of these operations.
  explicit PoorTarget(const std::vector<bool>& without) : target_(*native_target()) {
    for (const Rule& rule : target_.rules) {
      bool gone = false;
      for (const PatternNode& n : rule.nodes)
        gone |= n.kind == NodeKind::Operation && without[static_cast<size_t>(n.op)];
      if (rule.matches_constant || !gone) rules_.push_back(rule);
    }
    auto constants =
        std::find_if(rules_.begin(), rules_.end(), [](const Rule& r) { return r.matches_constant; });
    target_.constant_rules = static_cast<uint16_t>(constants - rules_.begin());
    target_.rules = rules_;
  }
  const Target& operator*() const { return target_; }

 private:
  Target target_;
  std::vector<Rule> rules_;
};

// What no target can do without: what all else is said in.
bool is_basic(const OperationInfo& row) {
  switch (row.op) {
    case Op::Add:
    case Op::Sub:
    case Op::Mul:
    case Op::DivS:
    case Op::DivU:
    case Op::RemS:
    case Op::RemU:
    case Op::And:
    case Op::Or:
    case Op::Xor:
    case Op::Shl:
    case Op::ShrU:
    case Op::ShrS:
    case Op::Narrow:
    case Op::WidenS:
    case Op::WidenU:
    case Op::Widen:
    case Op::ToFloatS:
    case Op::ToIntS:
    case Op::Bits:
    case Op::Div:
    case Op::Sqrt:
    case Op::Pick: return true;
    default: return !row.is_plain() || row.result == ResultRule::Truth;
  }
}

TEST(Legalize, PoorerTargetsMeanTheSame) {
  std::mt19937_64 random(19);
  for (int round = 0; round < 40; ++round) {
    std::vector<bool> without(operation_count);
    for (const OperationInfo& row : all_operations())
      without[static_cast<size_t>(row.op)] = !is_basic(row) && (round == 0 || random() % 2);
    PoorTarget poor(without);
    Coverage coverage(*poor, round % 2 ? (*poor).usual_features : Features(0));
    for (const OperationInfo& row : all_operations())
      if (without[static_cast<size_t>(row.op)]) {
        EXPECT_FALSE(coverage.covers(row.op, Type::integer(64), Type::integer(64))) << row.name;
      }
    const Type types[] = {Type::integer(8),   Type::integer(32), Type::integer(64), Type::integer(40),
                          Type::integer(128), Type::f32(),       Type::f64()};
    Type t = types[static_cast<size_t>(round) % std::size(types)];
    for (unsigned lanes : {1u, 4u}) {
      Type other = Type::integer(24);
      auto cases =
          lanes == 1 ? operation_cases(t, other) : operation_cases(t.with_lanes(4), other.with_lanes(4));
      testing::compare_legalized(cases, *poor, coverage, random, lanes == 1 ? 6 : 2);
      if (HasFatalFailure()) return;
    }
  }
}

// What neither rules nor legalization have is told, for all functions at once; what a target does have still
// compiles.
TEST(Legalize, WhatATargetLacksIsNamed) {
  std::vector<bool> without(operation_count);
  without[static_cast<size_t>(Op::Xor)] = without[static_cast<size_t>(Op::Sqrt)] = true;
  PoorTarget poor(without);
  Realm realm;
  auto module = testing::must_read(realm,
                                   "module m\nfunc f(a: i32) -> i32 {\ne:\n  b = xor a, 5\n  return b\n}\n"
                                   "func g(a: f64) -> f64 {\ne:\n  b = sqrt a\n  return b\n}\nfunc h(a: i32) "
                                   "-> i32 {\ne:\n  return a\n}\n");
  auto lowered = lower(*module, *poor);
  ASSERT_FALSE(lowered.good());
  std::string all = render(lowered.why());
  for (const char* part :
       {"in 'f': no rule of x64 covers this", "b = xor a, 5", "in 'g': no rule of x64 covers this",
        "b = sqrt a", "what the target's book covers"})
    EXPECT_NE(all.find(part), std::string::npos) << part << "\n" << all;
  EXPECT_EQ(lowered.why().size(), 2u) << all;
  EXPECT_EQ(render(lower(*module, target()).why()), "");
}

TEST(Legalize, EveryOperationInLanesMeansTheSame) {
  std::mt19937_64 random(18);
  for (unsigned lanes : {2u, 3u, 4u, 8u, 16u})
    for (unsigned w : {7u, 8u, 32u, 33u, 64u, 100u, 128u}) {
      compare(operation_cases(Type::integer(w).with_lanes(lanes),
                              Type::integer(w == 24 ? 25 : 24).with_lanes(lanes)),
              random, 2);
      if (HasFatalFailure()) return;
    }
}

// ---- helpers ----------------------------------------------------------------------------------------------

class HelperCalls {
 public:
  HelperCalls() {
    SourceText source("helpers.por", machine::helper_routines({}));
    auto module = load_text(realm_, source);
    EXPECT_TRUE(module.good()) << render(module.why());
    module_ = std::move(*module);
    evaluator_ = std::make_unique<Evaluator>(*module_, EvaluatorOptions{.step_limit = ~uint64_t(0)});
  }
  std::vector<uint64_t> operator()(const char* name, std::initializer_list<uint64_t> arguments) {
    std::vector<Datum> in;
    for (uint64_t a : arguments) in.push_back({a, 0});
    Outcome out = evaluator_->call(module_->find(name), in);
    std::vector<uint64_t> words;
    for (Datum d : out.results) words.push_back(d.bits);
    return words;  // none: it trapped
  }

 private:
  Realm realm_;
  std::unique_ptr<Module> module_;
  std::unique_ptr<Evaluator> evaluator_;
};

// Floats of all kinds: exponents near one another, subnormals, halves of the last place, infinities, NaN.
template <class F, class Bits>
F any_float(std::mt19937_64& random, F near) {
  constexpr int fraction = sizeof(F) == 4 ? 23 : 52;
  switch (random() % 8) {
    case 0: return std::bit_cast<F>(static_cast<Bits>(random()));
    case 1: return std::bit_cast<F>(static_cast<Bits>(random() & ((Bits(1) << fraction) - 1)));  // subnormal
    case 2: return std::ldexp(F(1), static_cast<int>(random() % 80) - 40);
    case 3: return -near;
    case 4: return near * F(1 + std::ldexp(F(1), -fraction));
    case 5: return random() % 2 ? std::numeric_limits<F>::infinity() : F(0) * F(random() % 2 ? 1 : -1);
    default: return static_cast<F>(static_cast<double>(static_cast<int64_t>(random())) * 0x1p-40);
  }
}

template <class F, class Bits>
void check_floats(HelperCalls& helper, const char* fma, const char* rem) {
  std::mt19937_64 random(sizeof(F));
  auto bits = [](F v) { return static_cast<uint64_t>(std::bit_cast<Bits>(v)); };
  F a = 1, b = 1, c = 1;
  for (int round = 0; round < 40000; ++round) {
    a = any_float<F, Bits>(random, b), b = any_float<F, Bits>(random, a),
    c = any_float<F, Bits>(random, a * b);
    F is = std::bit_cast<F>(static_cast<Bits>(helper(fma, {bits(a), bits(b), bits(c)})[0])),
      should = std::fma(a, b, c);
    ASSERT_TRUE((std::isnan(is) && std::isnan(should)) || bits(is) == bits(should))
        << fmt::format("fma({}, {}, {}) is {}, not {}", a, b, c, is, should);
    if (round % 8) continue;  // a bit a turn takes its time
    is = std::bit_cast<F>(static_cast<Bits>(helper(rem, {bits(a), bits(b)})[0])), should = std::fmod(a, b);
    ASSERT_TRUE((std::isnan(is) && std::isnan(should)) || bits(is) == bits(should))
        << fmt::format("fmod({}, {}) is {}, not {}", a, b, is, should);
  }
}

TEST(Helpers, FloatsAreTheCLibrarys) {
  HelperCalls helper;
  check_floats<double, uint64_t>(helper, "porphyry_fma_f64", "porphyry_rem_f64");
  check_floats<float, uint32_t>(helper, "porphyry_fma_f32", "porphyry_rem_f32");
}

// Two words of a number of 128 or of 64 bits.
void check_division(unsigned word_bits, const char* suffix) {
  HelperCalls helper;
  std::mt19937_64 random(3);
  Type t = Type::integer(2 * word_bits);
  auto word = [&](const std::vector<uint64_t>& w) { return Bits(w[1]) << word_bits | w[0]; };
  for (int round = 0; round < 30000; ++round) {
    Bits a = testing::random_operand(t, random), b = testing::random_operand(t, random);
    auto low = [&](Bits v) { return static_cast<uint64_t>(v & mask_of(word_bits)); };
    auto high = [&](Bits v) { return static_cast<uint64_t>(v >> word_bits); };
    auto call = [&](const char* name) {
      return helper((name + std::string(suffix)).c_str(), {low(a), high(a), low(b), high(b)});
    };
    auto text = fmt::format("{:x}:{:x} by {:x}:{:x}", high(a), low(a), high(b), low(b));
    for (auto [name, op] : {std::pair{"porphyry_div_u", Op::DivU}, std::pair{"porphyry_rem_u", Op::RemU},
                            std::pair{"porphyry_div_s", Op::DivS}, std::pair{"porphyry_rem_s", Op::RemS}}) {
      Bits in[] = {a, b};
      Computed meant = compute(op, t, t, in);
      auto is = call(name);
      ASSERT_EQ(is.empty(), meant.trapped) << name << " " << text;
      if (!meant.trapped) {
        ASSERT_TRUE(word(is) == meant.bits) << name << " " << text;
      }
    }
  }
}

TEST(Helpers, WideDivisionIsWideArithmetic) {
  check_division(64, "");
  check_division(32, "_32");
}

TEST(Helpers, WordsOf32BitsConvertAsTheHostDoes) {
  HelperCalls helper;
  std::mt19937_64 random(5);
  for (int round = 0; round < 30000; ++round) {
    auto n = static_cast<uint64_t>(testing::random_operand(Type::integer(64), random));
    std::initializer_list<uint64_t> words = {n & 0xffffffff, n >> 32};
    auto s = static_cast<int64_t>(n);
    EXPECT_EQ(helper("porphyry_to_f64_u_32", words)[0], std::bit_cast<uint64_t>(static_cast<double>(n))) << n;
    EXPECT_EQ(helper("porphyry_to_f64_s_32", words)[0], std::bit_cast<uint64_t>(static_cast<double>(s))) << s;
    EXPECT_EQ(helper("porphyry_to_f32_u_32", words)[0], std::bit_cast<uint32_t>(static_cast<float>(n))) << n;
    EXPECT_EQ(helper("porphyry_to_f32_s_32", words)[0], std::bit_cast<uint32_t>(static_cast<float>(s))) << s;
    double x = any_float<double, uint64_t>(random, static_cast<double>(s));
    for (Op op : {Op::ToIntU, Op::ToIntS}) {
      Bits in[] = {std::bit_cast<uint64_t>(x)};
      auto is = helper(op == Op::ToIntU ? "porphyry_to_int_u_32" : "porphyry_to_int_s_32",
                       {std::bit_cast<uint64_t>(x)});
      EXPECT_EQ(is[1] << 32 | is[0],
                static_cast<uint64_t>(compute(op, Type::f64(), Type::integer(64), in).bits))
          << x;
    }
    if (::testing::Test::HasFailure()) return;
  }
}

// ---- the simulator ----------------------------------------------------------------------------------------

TEST(Simulator, EndsWhereTheBookSays) {
  Realm realm;
  auto module = testing::must_read(realm, R"(module m
extern func pow(f64, f64) -> f64
func stop() {
a:
  trap
}
func wild() -> i32 {
a:
  v = load i32 [null + 8]
  return v
}
func ever() {
a:
  go b
b:
  go b
}
func out(x: f64) -> f64 {
a:
  y = call pow(x, x)
  return y
}
func twice(x: i128) -> i128, bool {
a:
  y, over = add.over.s x, x
  return y, over
}
)");
  auto jit = Jit::compile(*module, target());
  ASSERT_TRUE(jit.good()) << render(jit.why());
  size_t seen = 0;
  auto run = [&](const char* name, std::vector<uint64_t> arguments = {}) {
    auto runner = simulate::Runner::make(**jit, name, target());
    return (*runner)->run(arguments,
                          {.step_limit = 2000, .see = [&](const simulate::Observation&) { ++seen; }});
  };
  using End = simulate::RunOutcome::End;
  EXPECT_EQ(run("stop").end, End::Trap);
  EXPECT_EQ(run("wild").end, End::Fault);
  EXPECT_NE(run("wild").message.find("0x8"), std::string::npos);
  EXPECT_EQ(run("ever").end, End::TooLong);
  EXPECT_NE(run("out", {0}).message.find("leaves for code of the host"), std::string::npos);
  EXPECT_GT(seen, 2000u);
  EXPECT_EQ(run("twice", {5, uint64_t(1) << 62}).results, (std::vector<uint64_t>{10, uint64_t(1) << 63, 1}));
}

}  // namespace
}  // namespace porphyry
