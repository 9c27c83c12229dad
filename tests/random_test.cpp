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
#include "porphyry/sample/sample.h"
#include "porphyry/simulate/code_run.h"
#include "porphyry/targets/targets.h"
#include "support/measure.h"
#include "support/sample_run.h"

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
  explicit Laboratory(Sample& program) : program_(program), arguments_(program.arguments) {}

  // A legalized module takes arguments and gives results in parts.
  Observed evaluated(const Module& module, uint64_t seed = 1, bool in_parts = false) {
    Observed out;
    const Signature meant = program_.module->function(program_.main).signature();
    machine::Passing way = machine::passing(native_target()->convention, meant);
    std::vector<uint8_t> memory(way.result_bytes + 1);
    out.piece = fresh_piece();
    // Legalization says in many steps what was one.
    Evaluator e(module,
                {.seed = seed, .step_limit = &module == program_.module.get() ? 400'000u : 40'000'000u});
    std::vector<Datum> arguments = testing::sample_arguments(program_, e.attach(out.piece, "piece"));
    for (size_t k = 0; k < module.symbol_count(); ++k)
      if (module[Symbol(k)].kind == SymbolKind::ExternFunction) provide(e, module, Symbol(k));
    if (in_parts) arguments = machine::arguments_in_parts(*native_target()->convention.values, way, meant, arguments, e.attach(memory, "results"));
    Outcome run = e.call(program_.main, arguments);
    if (in_parts && run.end == Outcome::End::Result)
      run.results = machine::results_from_parts(*native_target()->convention.values, way, meant, run.results, memory, native_target()->layout.order);
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
    Compiled(const Laboratory& lab, const Module& module, bool schedule)
        : lab_(lab), module_(module), target_(*native_target()) {
      auto jit = Jit::compile(module, target_, {.check_allocation = true, .schedule = schedule});
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
        (*runner)->allow(piece);
        return (*runner)->run(module_.symbol_name(lab_.program_.main), arguments, {.seed = seed});
      });
    }
    // By the book, with open flags and the registers' first contents from a seed.
    Observed simulated(uint64_t seed) {
      return observed([&](std::vector<uint64_t>& arguments, std::vector<uint8_t>& piece) {
        auto runner = simulate::Runner::make(*jit_, module_.symbol_name(lab_.program_.main), target_);
        (*runner)->allow(piece);
        return (*runner)->run(arguments, {.seed = seed});
      });
    }

   private:
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
  std::vector<uint64_t> arguments_;
};

size_t program_count() {
  const char* n = std::getenv("PORPHYRY_PROGRAMS");
  return n ? std::strtoul(n, nullptr, 10) : testing::part_of(400);
}

TEST(RandomPrograms, EvaluatorAndProcessorAgreeAtEveryLevelAndStage) {
  const machine::Target& target = *native_target();
  bool every_stage = std::getenv("PORPHYRY_EVERY_STAGE"), only_runs = std::getenv("PORPHYRY_ONLY_RUNS");
  size_t results = 0, traps = 0, exhausted = 0;
  const char* start = std::getenv("PORPHYRY_FIRST_SEED");
  uint64_t first = start ? std::strtoull(start, nullptr, 10) : 1;
  for (uint64_t seed = first; seed < first + program_count(); ++seed) {
    Realm realm;
    Sample program = make_sample(realm, {.seed = seed, .native_layout = true, .lanes = seed % 3 ? 0u : 60u});
    Module& module = *program.module;
    Diagnostics wrong = verify(module);
    ASSERT_TRUE(wrong.empty()) << "seed " << seed << "\n" << render(wrong);
    const auto& types = module.function(program.main).signature().results;
    Laboratory lab(program);
    Observed meant = lab.evaluated(module);
    ASSERT_NE(meant.end, 2) << "seed " << seed << ": " << meant.message;
    ++(meant.end == 0 ? results : meant.end == 1 ? traps : exhausted);
    if (meant.end == 3) continue;
    auto expect = [&](const Observed& is, const Module& m, const std::string& where) {
      std::string d = difference(meant, is, types);
      if (!d.empty()) ADD_FAILURE() << "seed " << seed << ", " << where << ": " << d << "\n" << write_text(m);
      return d.empty();
    };

    if (!only_runs) {  // text and back is the same program to the letter
      std::string text = write_text(module);
      Realm other;
      SourceText source("random.por", text);
      auto read = load_text(other, source);
      ASSERT_TRUE(read.good()) << render(read.why());
      ASSERT_EQ(write_text(**read), text);
    }

    if ((seed % 4 == 0 && !only_runs) || every_stage)
      for (machine::Features features :
           {target.usual_features, machine::Features(0)})  // without features more is rewritten
        for (const std::string& step : machine::legalization().names()) {
          auto legal = clone(module);
          machine::legalize(*legal, target, machine::Coverage(target, features),
                            {.pipeline = machine::legalization().until(step)});
          Diagnostics broken = verify(*legal);
          ASSERT_TRUE(broken.empty()) << "seed " << seed << ", after " << step << "\n" << render(broken);
          bool in_parts = step != "reach" && step != "marks";
          if (!expect(lab.evaluated(*legal, 2, in_parts), *legal, "evaluated after " + step)) return;
        }
    Laboratory::Compiled plain(lab, module, false);
    if (!expect(plain.native(), module, "native without passes")) return;
    if (!expect(plain.simulated(simulate::Stage::Selected, seed), module, "simulated as selected")) return;
    if (!expect(plain.simulated(simulate::Stage::Allocated, seed), module, "simulated as allocated")) return;
    if ((seed % 4 == 1 || every_stage) && !expect(plain.simulated(seed), module, "simulated")) return;
    if (only_runs && seed % 4) continue;
    Notes notes;
    auto optimized = clone(module);
    Diagnostics broken =
        run_pipeline(*optimized, level_named("-O1")->pipeline(), {.notes = &notes, .check_between = true});
    ASSERT_TRUE(broken.empty()) << "seed " << seed << "\n" << render(broken);
    if (!expect(lab.evaluated(*optimized, 2), *optimized, "evaluated after -O1")) return;
    Laboratory::Compiled fast(lab, *optimized, true);
    if (!expect(fast.native(), *optimized, "native after -O1, scheduled")) return;
  }
  // The generator would be useless if most programs ended early.
  EXPECT_GT(results * 10, program_count() * 7);
  std::printf("%zu results, %zu traps, %zu exhausted\n", results, traps, exhausted);
}

}  // namespace
}  // namespace porphyry
