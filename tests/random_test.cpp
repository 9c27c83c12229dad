// Random programs: the evaluator and the processor agree, before and after passes, and on every stage
// between.
#include <fmt/format.h>
#include <gtest/gtest.h>

#include <cmath>
#include <cstdlib>

#include "porphyry/analyze/verify.h"
#include "porphyry/eval/evaluator.h"
#include "porphyry/formats/text.h"
#include "porphyry/ir/clone.h"
#include "porphyry/jit/apart.h"
#include "porphyry/machine/legalize.h"
#include "porphyry/machine/passing_data.h"
#include "porphyry/passes/passes.h"
#include "porphyry/print/print.h"
#include "porphyry/render/diagnostics.h"
#include "porphyry/sample/reduce.h"
#include "porphyry/sample/sample.h"
#include "porphyry/simulate/code_run.h"
#include "porphyry/targets/targets.h"
#include "support/measure.h"
#include "support/sample_run.h"
#include "support/targets.h"

namespace porphyry {
namespace {

// How a run ended and what it left behind.
struct Observed {
  int end = 0;  // 0 result, 1 trap, 2 fault, 3 exhausted
  std::vector<uint64_t> results;
  std::vector<uint8_t> piece, data;
  std::string message;
};

bool same_value(uint64_t a, uint64_t b, Type t) {
  if (t == Type::f32() && std::isnan(std::bit_cast<float>(uint32_t(a))) &&
      std::isnan(std::bit_cast<float>(uint32_t(b))))
    return true;
  if (t == Type::f64() && std::isnan(std::bit_cast<double>(a)) && std::isnan(std::bit_cast<double>(b)))
    return true;
  return a == b;
}

std::string difference(const Observed& a, const Observed& b, const std::vector<Type>& types) {
  if (a.end != b.end)
    return fmt::format("one ends with {} ({}), the other with {} ({})", a.end, a.message, b.end, b.message);
  if (a.end != 0) return "";
  size_t at = 0;
  for (size_t k = 0; k < types.size(); ++k)
    for (unsigned w = 0; w < types[k].words(); ++w, ++at)
      if (!same_value(a.results[at], b.results[at], types[k].element()))
        return fmt::format("word {} of result {} ({}) is {:#x} and {:#x}", w, k, types[k].name(),
                           a.results[at], b.results[at]);
  if (a.piece != b.piece) return "the piece of memory differs";
  if (a.data != b.data) return "the data item differs";
  return "";
}

class Laboratory {
 public:
  Laboratory(Sample& program, const machine::Target& target)
      : program_(program), target_(target), arguments_(program.arguments) {}

  // The program itself. Legalization says in many steps what was one.
  static constexpr uint64_t most_steps = 400'000, most_steps_afterwards = 40'000'000;
  Observed meant(const Module& module) { return evaluated(module, 1, false, most_steps); }
  // A legalized module takes arguments and gives results in parts.
  Observed evaluated(const Module& module, uint64_t seed, bool in_parts = false,
                     uint64_t step_limit = most_steps_afterwards) {
    Observed out;
    const Signature meant = program_.module->function(program_.main).signature();
    machine::Passing way = machine::passing(target_.convention, meant);
    std::vector<uint8_t> memory(way.result_bytes + 1);
    out.piece = fresh_piece();
    Evaluator e(module, {.seed = seed, .step_limit = step_limit});
    std::vector<Datum> arguments = testing::sample_arguments(program_, e.attach(out.piece, "piece"));
    for (size_t k = 0; k < module.symbol_count(); ++k)
      if (module[Symbol(k)].kind == SymbolKind::ExternFunction) provide(e, module, Symbol(k));
    if (in_parts)
      arguments = machine::arguments_in_parts(*target_.convention.values, way, meant, arguments,
                                              e.attach(memory, "results"));
    Outcome run = e.call(program_.main, arguments);
    if (in_parts && run.end == Outcome::End::Result)
      run.results = machine::results_from_parts(*target_.convention.values, way, meant, run.results, memory,
                                                target_.layout.order);
    out.end = static_cast<int>(run.end);
    out.message = run.message;
    size_t at = 0;
    for (Type t : meant.results)
      for (unsigned lane = 0; lane < t.lanes() && at < run.results.size(); ++lane, ++at) {
        out.results.push_back(run.results[at].bits);
        if (t.words_per_lane() == 2) out.results.push_back(run.results[at].high);
      }
    auto data = e.data(module.find("store"));
    out.data.assign(data.begin(), data.end());
    return out;
  }

  // A module as machine code, which is run on the processor and simulated at every stage.
  class Compiled {
   public:
    Compiled(const Laboratory& lab, const Module& module, machine::LowerOptions options)
        : lab_(lab), module_(module), target_(lab.target_) {
      options.check_allocation = true;
      auto jit = Jit::compile(module, target_, options, usual_externals, {.simulated = !target_.runs_here()});
      if (!jit) {
        why_not_ = render(jit.why());
        return;
      }
      jit_ = std::move(*jit);
      for (size_t k = 0; k < module.symbol_count(); ++k)
        if (module[Symbol(k)].kind == SymbolKind::Data && !module[Symbol(k)].data.is_const) {
          auto data = jit_->data(Symbol(k));
          fresh_data_.push_back({Symbol(k), {data.begin(), data.end()}});
        }
    }

    Observed native() {
      return observed([&](std::vector<uint64_t>& arguments, std::vector<uint8_t>& piece) {
        auto caller = Caller::make(*jit_, module_.symbol_name(lab_.program_.main), target_);
        SharedMemory shared(Sample::piece_bytes);
        std::copy(piece.begin(), piece.end(), shared.bytes().begin());
        arguments[0] = reinterpret_cast<uint64_t>(shared.bytes().data());
        NativeOutcome run = (*caller)->call_apart(arguments);
        piece.assign(shared.bytes().begin(), shared.bytes().end());
        return run;
      });
    }
    // Code without bytes: on virtual registers, or as allocated.
    Observed simulated(simulate::Stage stage, uint64_t seed) {
      return observed([&](std::vector<uint64_t>& arguments, std::vector<uint8_t>& piece) {
        auto runner = simulate::CodeRunner::make(*jit_, target_, stage);
        return with_piece(**runner, arguments, piece, [&] {
          return (*runner)->run(module_.symbol_name(lab_.program_.main), arguments, {.seed = seed});
        });
      });
    }
    // By the book, with open flags and the registers' first contents from a seed.
    Observed simulated(uint64_t seed) {
      return observed([&](std::vector<uint64_t>& arguments, std::vector<uint8_t>& piece) {
        auto runner = simulate::Runner::make(*jit_, module_.symbol_name(lab_.program_.main), target_);
        return with_piece(**runner, arguments, piece,
                          [&] { return (*runner)->run(arguments, {.seed = seed}); });
      });
    }

   private:
    // The piece where the target's pointers reach it.
    template <class Runner, class Run>
    simulate::RunOutcome with_piece(Runner& runner, std::vector<uint64_t>& arguments,
                                    std::vector<uint8_t>& piece, Run run_it) {
      ReachableMemory memory(piece.size(), target_);
      std::copy(piece.begin(), piece.end(), memory.bytes().begin());
      runner.allow(memory.bytes());
      arguments[0] = memory.address();
      simulate::RunOutcome run = run_it();
      std::copy(memory.bytes().begin(), memory.bytes().end(), piece.begin());
      return run;
    }
    template <class Run>
    Observed observed(Run run_it) {
      Observed out;
      if (!jit_) return {.end = 9, .message = why_not_};
      for (const auto& [item, fresh] : fresh_data_)  // what an earlier run may have changed
        std::copy(fresh.begin(), fresh.end(), jit_->data(item).begin());
      out.piece = fresh_piece();
      std::vector<uint64_t> arguments{reinterpret_cast<uint64_t>(out.piece.data())};
      arguments.insert(arguments.end(), lab_.arguments_.begin(), lab_.arguments_.end());
      auto run = run_it(arguments, out.piece);
      out.end = static_cast<int>(run.end);
      out.message = run.message;
      out.results = run.results;
      auto data = jit_->data(module_.find("store"));
      out.data.assign(data.begin(), data.end());
      return out;
    }

    const Laboratory& lab_;
    const Module& module_;
    const machine::Target& target_;
    std::unique_ptr<Jit> jit_;
    std::string why_not_;
    std::vector<std::pair<Symbol, std::vector<uint8_t>>> fresh_data_;
  };

 private:
  static std::vector<uint8_t> fresh_piece() {
    auto piece = Sample::fresh_piece();
    return {piece.begin(), piece.end()};
  }
  static void provide(Evaluator& e, const Module& module, Symbol s) {
    void* host = usual_externals(module.symbol_name(s));
    size_t count = module.signature(s)->parameters.size();
    bool single = module.signature(s)->results[0] == Type::f32();
    e.provide(s, [=](HostCall& call) {
      auto a = call.arguments;
      auto r = call.results;
      auto run = [&](auto zero) {
        using F = decltype(zero);
        using Bits = std::conditional_t<sizeof(F) == 4, uint32_t, uint64_t>;
        auto x = [&](size_t k) { return std::bit_cast<F>(static_cast<Bits>(a[k].bits)); };
        F v = count == 1   ? reinterpret_cast<F (*)(F)>(host)(x(0))
              : count == 2 ? reinterpret_cast<F (*)(F, F)>(host)(x(0), x(1))
                           : reinterpret_cast<F (*)(F, F, F)>(host)(x(0), x(1), x(2));
        r[0].bits = std::bit_cast<Bits>(v);
      };
      if (single)
        run(0.0f);
      else
        run(0.0);
      return true;
    });
  }

  Sample& program_;
  const machine::Target& target_;
  std::vector<uint64_t> arguments_;
};

size_t program_count() {
  const char* n = std::getenv("PORPHYRY_PROGRAMS");
  return n ? std::strtoul(n, nullptr, 10) : testing::part_of(400);
}

// One program in all the forms that it is run in; what is wanted is made when it is first asked for.
class Trial {
 public:
  Trial(Laboratory& lab, const machine::Target& target, const Module& module, const Level& level)
      : lab_(lab), target_(target), module_(module), level_(level) {}

  Laboratory::Compiled& plain() {
    if (!plain_) plain_ = std::make_unique<Laboratory::Compiled>(lab_, module_, machine::LowerOptions());
    return *plain_;
  }
  const Module& optimized() {
    if (!optimized_) {
      optimized_ = clone(module_);
      Diagnostics broken = run_pipeline(*optimized_, level_.pipeline(), {.check_between = true});
      EXPECT_TRUE(broken.empty()) << render(broken);
    }
    return *optimized_;
  }
  Laboratory::Compiled& fast() {
    if (!fast_)
      fast_ = std::make_unique<Laboratory::Compiled>(lab_, optimized(), machine::LowerOptions::at(level_));
    return *fast_;
  }
  Observed evaluated_optimized() { return lab_.evaluated(optimized(), 2); }
  Observed after(const std::string& step, machine::Features features) {
    auto legal = clone(module_);
    machine::legalize(*legal, target_, machine::Coverage(target_, features),
                      {.pipeline = machine::legalization().until(step)});
    Diagnostics broken = verify(*legal);
    if (!broken.empty()) return {.end = 9, .message = render(broken)};
    return lab_.evaluated(*legal, 2, step != "observe" && step != "reach" && step != "marks");
  }

 private:
  Laboratory& lab_;
  const machine::Target& target_;
  const Module& module_;
  const Level& level_;
  std::unique_ptr<Laboratory::Compiled> plain_, fast_;
  std::unique_ptr<Module> optimized_;
};

// A way to run a program.
struct Way {
  std::string name;
  std::function<Observed(Trial&)> run;
};

struct Measure {  // how much is done with each program
  bool every_stage = std::getenv("PORPHYRY_EVERY_STAGE"), only_runs = std::getenv("PORPHYRY_ONLY_RUNS");
};

std::vector<Way> ways_of(const machine::Target& target, uint64_t seed, const Measure& measure) {
  std::vector<Way> out;
  if ((seed % 4 == 0 && !measure.only_runs) || measure.every_stage)
    for (machine::Features features : {target.usual_features, machine::Features(0)}) {
      for (const std::string& step : machine::legalization().names())
        out.push_back({"evaluated after " + step, [=](Trial& t) { return t.after(step, features); }});
      if (target.usual_features == 0) break;  // without features more is rewritten
    }
  using simulate::Stage;
  const bool runs = target.runs_here();
  if (runs) out.push_back({"native without passes", [](Trial& t) { return t.plain().native(); }});
  out.push_back(
      {"simulated as selected", [=](Trial& t) { return t.plain().simulated(Stage::Selected, seed); }});
  out.push_back(
      {"simulated as allocated", [=](Trial& t) { return t.plain().simulated(Stage::Allocated, seed); }});
  if (!runs || seed % 4 == 1 || measure.every_stage)
    out.push_back({"simulated", [=](Trial& t) { return t.plain().simulated(seed); }});
  if (measure.only_runs && seed % 4) return out;
  out.push_back({"evaluated after its level", [](Trial& t) { return t.evaluated_optimized(); }});
  out.push_back(
      {"run after its level", [=](Trial& t) { return runs ? t.fast().native() : t.fast().simulated(seed); }});
  return out;
}

class RandomPrograms : public ::testing::TestWithParam<std::string> {};

// By the processor, where there is one for the target, and the simulator. A program that does not is made
// smaller before it is shown.
TEST_P(RandomPrograms, MeanTheSameAtEveryLevelAndStage) {
  const machine::Target& target = testing::target(GetParam());
  const Measure measure;
  size_t results = 0, traps = 0, exhausted = 0;
  const char* start = std::getenv("PORPHYRY_FIRST_SEED");
  uint64_t first = start ? std::strtoull(start, nullptr, 10) : 1;
  for (uint64_t seed = first; seed < first + program_count(); ++seed) {
    Realm realm;
    Sample program =
        make_sample(realm, {.seed = seed, .layout = target.layout, .lanes = seed % 3 ? 0u : 60u});
    Module& module = *program.module;
    Diagnostics wrong = verify(module);
    ASSERT_TRUE(wrong.empty()) << "seed " << seed << "\n" << render(wrong);
    const auto types = module.function(program.main).signature().results;
    Laboratory lab(program, target);
    Observed meant = lab.meant(module);
    ASSERT_NE(meant.end, 2) << "seed " << seed << ": " << meant.message;
    ++(meant.end == 0 ? results : meant.end == 1 ? traps : exhausted);
    if (meant.end == 3) continue;
    if (!measure.only_runs) {  // text and back is the same program to the letter
      std::string text = write_text(module);
      Realm other;
      SourceText source("random.por", text);
      auto read = load_text(other, source);
      ASSERT_TRUE(read.good()) << render(read.why());
      ASSERT_EQ(write_text(**read), text);
    }
    const Level& level = all_levels()[1 + seed / 4 % 4];  // -O1, -O2, -O3, -Os
    Trial trial(lab, target, module, level);
    for (const Way& way : ways_of(target, seed, measure)) {
      std::string d = difference(meant, way.run(trial), types);
      if (d.empty()) continue;
      auto small = reduce(module, program.main, [&](const Module& m) {
        Observed should = lab.meant(m);
        Trial again(lab, target, m, level);
        return should.end < 2 && !difference(should, way.run(again), types).empty();
      });
      FAIL() << "seed " << seed << ", " << way.name << ", " << level.name << ": " << d << "\nreduced to\n"
             << write_text(*small);
    }
  }
  // The generator would be useless if most programs ended early.
  EXPECT_GT(results * 10, program_count() * 7);
  std::printf("%zu results, %zu traps, %zu exhausted\n", results, traps, exhausted);
}

INSTANTIATE_TEST_SUITE_P(All, RandomPrograms, ::testing::ValuesIn(testing::target_names()),
                         testing::as_test_name);

}  // namespace
}  // namespace porphyry
