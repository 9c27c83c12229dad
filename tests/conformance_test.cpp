// The language by example: for each operation, operands that matter and the result that the language page
// promises, in the evaluator, on the processor without and with features, and folded.
#include <fmt/format.h>
#include <gtest/gtest.h>

#include <cmath>

#include "porphyry/call/call.h"
#include "porphyry/eval/evaluator.h"
#include "porphyry/ir/clone.h"
#include "porphyry/ir/compute.h"
#include "porphyry/jit/apart.h"
#include "porphyry/passes/passes.h"
#include "porphyry/sample/cases.h"
#include "porphyry/simulate/code_run.h"
#include "porphyry/simulate/run.h"
#include "porphyry/targets/targets.h"
#include "support/read.h"

namespace porphyry {
namespace {

using testing::must_read;

struct Row {
  const char* operation;  // with the result's type where it is stated
  const char* type;       // of the operands
  std::vector<const char*> operands;
  const char* result;  // "trap", or as the text form writes it; "nan" is any NaN
};

const Row rows[] = {
    // ---- whole numbers wrap
    {"add", "i8", {"127", "1"}, "-128"},
    {"add", "i64", {"-1", "1"}, "0"},
    {"sub", "i16", {"-32768", "1"}, "32767"},
    {"sub", "i32", {"0", "-2147483648"}, "-2147483648"},
    {"mul", "i8", {"16", "16"}, "0"},
    {"mul", "i16", {"-3", "5"}, "-15"},
    {"mul", "i64", {"4294967296", "4294967296"}, "0"},
    {"neg", "i8", {"-128"}, "-128"},
    {"neg", "i64", {"5"}, "-5"},
    {"abs", "i16", {"-32768"}, "-32768"},
    {"abs", "i32", {"-7"}, "7"},
    // ---- saturating
    {"add.sat.s", "i8", {"100", "100"}, "127"},
    {"add.sat.s", "i16", {"-32768", "-1"}, "-32768"},
    {"add.sat.s", "i64", {"5", "-7"}, "-2"},
    {"add.sat.u", "i8", {"200", "100"}, "-1"},
    {"add.sat.u", "i32", {"1", "2"}, "3"},
    {"sub.sat.s", "i32", {"-2147483648", "1"}, "-2147483648"},
    {"sub.sat.s", "i64", {"9223372036854775807", "-1"}, "9223372036854775807"},
    {"sub.sat.u", "i16", {"3", "5"}, "0"},
    {"sub.sat.u", "i64", {"-1", "1"}, "-2"},
    // ---- division rounds toward zero and traps
    {"div.s", "i32", {"-7", "2"}, "-3"},
    {"div.s", "i8", {"-128", "2"}, "-64"},
    {"div.s", "i8", {"-128", "-1"}, "trap"},
    {"div.s", "i16", {"-32768", "-1"}, "trap"},
    {"div.s", "i32", {"-2147483648", "-1"}, "trap"},
    {"div.s", "i64", {"-9223372036854775808", "-1"}, "trap"},
    {"div.s", "i64", {"1", "0"}, "trap"},
    {"div.u", "i32", {"-1", "2"}, "2147483647"},
    {"div.u", "i8", {"-1", "16"}, "15"},
    {"div.u", "i16", {"7", "0"}, "trap"},
    {"rem.s", "i32", {"-7", "2"}, "-1"},
    {"rem.s", "i32", {"7", "-2"}, "1"},
    {"rem.s", "i8", {"-128", "-1"}, "0"},
    {"rem.s", "i64", {"-9223372036854775808", "-1"}, "0"},
    {"rem.s", "i16", {"5", "0"}, "trap"},
    {"rem.u", "i64", {"-1", "10"}, "5"},
    {"rem.u", "i8", {"3", "0"}, "trap"},
    // ---- the smaller, the larger, high halves
    {"min.s", "i8", {"-1", "1"}, "-1"},
    {"min.u", "i8", {"-1", "1"}, "1"},
    {"max.s", "i64", {"-1", "1"}, "1"},
    {"max.u", "i32", {"-1", "1"}, "-1"},
    {"mulhi.s", "i8", {"-128", "-128"}, "64"},
    {"mulhi.s", "i16", {"-1", "1"}, "-1"},
    {"mulhi.s", "i32", {"-2147483648", "2"}, "-1"},
    {"mulhi.u", "i32", {"-1", "-1"}, "-2"},
    {"mulhi.u", "i64", {"-1", "-1"}, "-2"},
    {"mulhi.s", "i64", {"-1", "-1"}, "0"},
    // ---- bits; amounts count modulo the width
    {"and", "i8", {"12", "10"}, "8"},
    {"or", "i32", {"12", "10"}, "14"},
    {"xor", "i64", {"12", "10"}, "6"},
    {"not", "i16", {"0"}, "-1"},
    {"not", "bool", {"true"}, "false"},
    {"xor", "bool", {"true", "true"}, "false"},
    {"shl", "i8", {"1", "9"}, "2"},
    {"shl", "i64", {"1", "64"}, "1"},
    {"shr.s", "i16", {"-32768", "15"}, "-1"},
    {"shr.u", "i16", {"-32768", "15"}, "1"},
    {"shr.s", "i32", {"-8", "33"}, "-4"},
    {"rotl", "i8", {"-127", "1"}, "3"},
    {"rotr", "i16", {"1", "1"}, "-32768"},
    {"rotl", "i32", {"1", "32"}, "1"},
    {"rotr", "i64", {"1", "1"}, "-9223372036854775808"},
    {"clz", "i8", {"1"}, "7"},
    {"clz", "i64", {"0"}, "64"},
    {"clz", "i32", {"-1"}, "0"},
    {"ctz", "i8", {"0"}, "8"},
    {"ctz", "i16", {"0"}, "16"},
    {"ctz", "i64", {"-9223372036854775808"}, "63"},
    {"popcount", "i16", {"-1"}, "16"},
    {"popcount", "i64", {"-1"}, "64"},
    {"bytes.reverse", "i8", {"5"}, "5"},
    {"bytes.reverse", "i16", {"258"}, "513"},
    {"bytes.reverse", "i32", {"1"}, "16777216"},
    {"bits.reverse", "i8", {"1"}, "-128"},
    {"bits.reverse", "i64", {"1"}, "-9223372036854775808"},
    // ---- comparisons
    {"lt.s", "i8", {"-1", "0"}, "true"},
    {"lt.u", "i8", {"-1", "0"}, "false"},
    {"le.s", "i64", {"5", "5"}, "true"},
    {"gt.u", "i16", {"-1", "1"}, "true"},
    {"gt.s", "i16", {"0", "-1"}, "true"},
    {"le.u", "i64", {"-1", "1"}, "false"},
    {"ge.u", "i8", {"-1", "127"}, "true"},
    {"ge.s", "i32", {"-2147483648", "2147483647"}, "false"},
    {"eq", "bool", {"false", "false"}, "true"},
    {"ne", "i64", {"1", "4294967297"}, "true"},
    {"eq", "f32", {"-0.0", "0.0"}, "true"},
    {"eq", "f64", {"nan", "nan"}, "false"},
    {"ne", "f64", {"nan", "nan"}, "true"},
    {"lt", "f32", {"nan", "1.0"}, "false"},
    {"ge", "f64", {"nan", "nan"}, "false"},
    {"le", "f32", {"-inf", "-inf"}, "true"},
    {"gt", "f64", {"inf", "1.0e308"}, "true"},
    {"unordered", "f32", {"1.0", "nan"}, "true"},
    {"unordered", "f64", {"1.0", "inf"}, "false"},
    // ---- floats
    {"add", "f32", {"16777216.0", "1.0"}, "16777216.0"},
    {"sub", "f64", {"inf", "inf"}, "nan"},
    {"mul", "f64", {"1.0e-200", "1.0e-200"}, "0.0"},
    {"div", "f32", {"1.0", "-0.0"}, "-inf"},
    {"div", "f64", {"0.0", "0.0"}, "nan"},
    {"rem", "f64", {"-7.5", "2.0"}, "-1.5"},
    {"rem", "f32", {"5.0", "inf"}, "5.0"},
    {"rem", "f32", {"5.0", "0.0"}, "nan"},
    {"neg", "f32", {"0.0"}, "-0.0"},
    {"abs", "f64", {"-inf"}, "inf"},
    {"min", "f32", {"0.0", "-0.0"}, "-0.0"},
    {"min", "f64", {"-0.0", "0.0"}, "-0.0"},
    {"min", "f64", {"nan", "1.0"}, "nan"},
    {"min", "f32", {"2.0", "-3.0"}, "-3.0"},
    {"max", "f32", {"-0.0", "0.0"}, "0.0"},
    {"max", "f64", {"0.0", "-0.0"}, "0.0"},
    {"max", "f32", {"1.0", "nan"}, "nan"},
    {"max", "f64", {"-1.0", "-2.0"}, "-1.0"},
    {"sqrt", "f64", {"-1.0"}, "nan"},
    {"sqrt", "f32", {"-0.0"}, "-0.0"},
    {"sqrt", "f64", {"2.25"}, "1.5"},
    {"fma", "f32", {"16777216.0", "1.0", "1.0"}, "16777216.0"},
    {"fma", "f64", {"1.0e308", "10.0", "-inf"}, "-inf"},
    {"floor", "f32", {"-0.5"}, "-1.0"},
    {"ceil", "f64", {"-0.5"}, "-0.0"},
    {"round", "f32", {"0.5"}, "0.0"},
    {"round", "f64", {"-1.5"}, "-2.0"},
    {"trunc", "f32", {"-1.9"}, "-1.0"},
    {"copysign", "f64", {"3.0", "-0.0"}, "-3.0"},
    {"copysign", "f32", {"-inf", "1.0"}, "inf"},
    // ---- conversions
    {"narrow i8", "i32", {"511"}, "-1"},
    {"narrow f32", "f64", {"1.0e300"}, "inf"},
    {"narrow f32", "f64", {"0.1"}, "0.1"},
    {"widen.s i64", "i8", {"-1"}, "-1"},
    {"widen.u i64", "i8", {"-1"}, "255"},
    {"widen.s i16", "i8", {"-128"}, "-128"},
    {"widen.u i32", "bool", {"true"}, "1"},
    {"widen.u i8", "bool", {"true"}, "1"},
    {"widen f64", "f32", {"0.5"}, "0.5"},
    {"to_float.s f32", "i8", {"-128"}, "-128.0"},
    {"to_float.u f64", "i8", {"-1"}, "255.0"},
    {"to_float.u f32", "i32", {"-1"}, "4294967300.0"},
    {"to_float.s f32", "i64", {"16777217"}, "16777216.0"},
    {"to_float.u f64", "i64", {"-1"}, "18446744073709552000.0"},
    {"to_float.u f32", "i64", {"-9223372036854775807"}, "9223372000000000000.0"},
    {"to_int.s i8", "f32", {"1000.0"}, "127"},
    {"to_int.s i8", "f64", {"-1000.0"}, "-128"},
    {"to_int.s i32", "f32", {"nan"}, "0"},
    {"to_int.s i32", "f64", {"-2147483648.9"}, "-2147483648"},
    {"to_int.s i32", "f32", {"2147483520.0"}, "2147483520"},
    {"to_int.s i32", "f32", {"3.0e9"}, "2147483647"},
    {"to_int.s i32", "f64", {"nan"}, "0"},
    {"to_int.s i32", "f64", {"2147483647.9"}, "2147483647"},
    {"to_int.u i32", "f32", {"nan"}, "0"},
    {"to_int.u i32", "f32", {"-inf"}, "0"},
    {"to_int.u i32", "f64", {"4294967296.0"}, "-1"},
    {"to_int.s i64", "f64", {"1.0e19"}, "9223372036854775807"},
    {"to_int.s i64", "f32", {"-inf"}, "-9223372036854775808"},
    {"to_int.u i8", "f32", {"255.9"}, "-1"},
    {"to_int.u i16", "f64", {"-3.0"}, "0"},
    {"to_int.u i32", "f64", {"4294967295.0"}, "-1"},
    {"to_int.u i64", "f64", {"18446744073709549568.0"}, "-2048"},
    {"to_int.u i64", "f32", {"1.0e30"}, "-1"},
    {"to_int.u i64", "f64", {"nan"}, "0"},
    {"bits i32", "f32", {"1.0"}, "1065353216"},
    {"bits f64", "i64", {"-9223372036854775808"}, "-0.0"},
};

// A float's exponent is written in more than one way: compare what the words stand for.
bool same_number(const std::string& a, const std::string& b) {
  if (a == b) return true;
  bool floats = a.find_first_of(".en") != std::string::npos && b.find_first_of(".en") != std::string::npos &&
                a.find("true") == std::string::npos && a.find("false") == std::string::npos;
  if (!floats) return false;
  double x = std::strtod(a.c_str(), nullptr), y = std::strtod(b.c_str(), nullptr);
  return (std::isnan(x) && std::isnan(y)) || (x == y && std::signbit(x) == std::signbit(y));
}

std::string outcome_text(const CallOutcome& o) {
  return o.end == CallOutcome::End::Trap     ? "trap"
         : o.end == CallOutcome::End::Result ? o.results[0]
                                             : "fault: " + o.message;
}

TEST(Conformance, EveryOperationGivesWhatTheLanguagePromises) {
  const machine::Target& target = *native_target();
  for (const Row& row : rows) {
    std::string operation(row.operation), name = operation.substr(0, operation.find(' '));
    std::string stated = operation.size() > name.size() ? operation.substr(name.size() + 1) : "";
    const OperationInfo& op = info(*operation_named(name));
    std::string result = !stated.empty() ? stated : op.result == ResultRule::Truth ? "bool" : row.type;
    std::string parameters, names, literals, call;
    for (size_t k = 0; k < row.operands.size(); ++k) {
      std::string comma = k ? ", " : "", letter(1, static_cast<char>('a' + k));
      parameters += comma + letter + ": " + row.type;
      names += comma + letter;
      literals += comma + row.operands[k] + (k == 0 ? std::string(":") + row.type : "");
    }
    std::string text = fmt::format(
        "module m\nfunc f({0}) -> {1} {{\nenter:\n  r = {2} {3}\n  return r\n}}\nfunc g() -> {1} "
        "{{\nenter:\n  r = {2} {4}\n  return r\n}}\n",
        parameters, result, operation, names, literals);
    Realm realm;
    auto module = must_read(realm, text);
    auto folded = clone(*module);
    ASSERT_EQ(render(run_pipeline(*folded, level_named("-O1")->pipeline())), "");
    std::vector<std::string> words(row.operands.begin(), row.operands.end());
    auto expect = [&](const std::string& is, const char* where) {
      EXPECT_TRUE(same_number(is, row.result)) << operation << " of " << row.type << " " << literals << " "
                                               << where << ": " << is << ", not " << row.result;
    };
    auto with_operands = prepare_call(*module, "f", words), without = prepare_call(*module, "g", {});
    ASSERT_TRUE(with_operands.good()) << render(with_operands.why());
    expect(outcome_text(run_on_evaluator(*module, *with_operands)), "in the evaluator");
    expect(outcome_text(run_on_evaluator(*folded, *without)), "folded");
    for (machine::Features features : {machine::Features(0), target.usual_features}) {
      auto jit = Jit::compile(*module, target, {.features = features, .check_allocation = true});
      ASSERT_TRUE(jit.good()) << render(jit.why());
      expect(outcome_text(run_on_processor(*module, **jit, target, *with_operands)), "on the processor");
      expect(outcome_text(run_on_processor(*module, **jit, target, *without)),
             "on the processor, of constants");
    }
  }
}

TEST(Conformance, EveryPlainOperationIsInTheTable) {
  for (const OperationInfo& op : all_operations()) {
    if (op.layout > Layout::Convert || op.op == Op::Pick) continue;
    bool found = false;
    for (const Row& row : rows)
      found |= std::string(row.operation).substr(0, std::string(row.operation).find(' ')) == op.name;
    EXPECT_TRUE(found) << op.name;
  }
}

// Signaling NaNs through every operation on floats: arithmetic makes a quiet NaN of one, what keeps bits
// keeps them, in the evaluator, folded, on the processor without and with features, and simulated at every
// stage.
TEST(Conformance, SignalingOperandsGiveTheSameEverywhere) {
  const machine::Target& target = *native_target();
  size_t compared = 0;
  for (Type t : {Type::f32(), Type::f64()}) {
    const uint64_t quiet = uint64_t(1) << (t.bits() == 32 ? 22 : 51),
                   exponent = t.bits() == 32 ? 0x7f800000u : 0x7ffull << 52;
    const uint64_t one = t.bits() == 32 ? 0x3fc00000u : 0x3ffull << 52;
    const uint64_t numbers[] = {exponent | 5, (uint64_t(1) << (t.bits() - 1)) | exponent | 9,
                                exponent | quiet | 3, one, exponent};
    auto is_nan = [&](uint64_t bits) {
      return (bits & (exponent | (quiet * 2 - 1))) > exponent && (bits & exponent) == exponent;
    };
    std::vector<OperationCase> all = operation_cases(t, Type::integer(32));
    Realm realm;
    auto module = module_of_cases(realm, all);
    std::vector<std::unique_ptr<Jit>> jits;
    for (machine::Features features : {machine::Features(0), target.usual_features})
      jits.push_back(std::move(*Jit::compile(*module, target, {.features = features})));
    for (size_t k = 0; k < all.size(); ++k) {
      const Signature& s = module->function(Symbol(k)).signature();
      bool floats = s.results.size() == 1 && s.results[0].is_float() && s.results[0].bits() == t.bits();
      for (Type p : s.parameters) floats &= p == t;
      if (!floats) continue;
      bool keeps_bits =
          all[k].op == Op::Neg || all[k].op == Op::Abs || all[k].op == Op::CopySign || all[k].op == Op::Bits;
      std::string name = fmt::format("f{}", k);
      for (uint64_t a : numbers)
        for (uint64_t b : numbers) {
          std::vector<uint64_t> words{a, b, a};
          words.resize(s.parameters.size());
          std::vector<Datum> data;
          std::vector<Bits> in(words.begin(), words.end());
          for (uint64_t w : words) data.push_back({w, 0});
          Evaluator e(*module);
          uint64_t meant = e.call(Symbol(k), data).results[0].bits;
          Computed folded = compute(all[k].op, t, t, in);
          std::string what = fmt::format("{} {} of {:#x}, {:#x}", info(all[k].op).name, t.name(), a, b);
          auto expect = [&](uint64_t is, const char* where) {
            ++compared;
            if (keeps_bits || !is_nan(meant)) {
              EXPECT_EQ(is, meant) << what << " " << where;
            } else {
              EXPECT_TRUE(is_nan(is) && (is & quiet)) << what << " " << where << fmt::format(": {:#x}", is);
            }
          };
          expect(meant, "in the evaluator");
          expect(static_cast<uint64_t>(folded.bits), "folded");
          for (const auto& jit : jits) {
            expect((*Caller::make(*jit, name, target))->call(words)[0], "on the processor");
            auto runner = simulate::Runner::make(*jit, name, target);
            expect((*runner)->run(words).results[0], "simulated from bytes");
          }
          auto stages = simulate::CodeRunner::make(*jits[1], target, simulate::Stage::Selected);
          expect((*stages)->run(name, words).results[0], "simulated as selected");
          if (words.size() == 1) break;
        }
    }
  }
  EXPECT_GT(compared, 2000u);
}

}  // namespace
}  // namespace porphyry
