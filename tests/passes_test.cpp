// Passes on generated programs, by the evaluator: each alone, each after each, and in random order; every
// pass leaves programs that verify, and keeps only analyses that still hold.
#include <fmt/format.h>
#include <gtest/gtest.h>

#include <cmath>
#include <cstdlib>
#include <random>

#include "porphyry/ir/clone.h"
#include "porphyry/ir/pen.h"
#include "porphyry/passes/passes.h"
#include "support/measure.h"
#include "support/read.h"
#include "support/sample_run.h"

namespace porphyry {
namespace {

struct Answer {
  Outcome::End end;
  std::string message;
  std::vector<std::string> results;
  std::vector<uint8_t> piece, data;
  // What memory holds after a trap is seen by nobody.
  bool operator==(const Answer& o) const {
    if (end != o.end) return false;
    return end != Outcome::End::Result || (results == o.results && piece == o.piece && data == o.data);
  }
};

std::string shown(Datum d, Type t) {
  double number = t == Type::f64()   ? std::bit_cast<double>(d.bits)
                  : t == Type::f32() ? std::bit_cast<float>(static_cast<uint32_t>(d.bits))
                                     : 0;
  return std::isnan(number) ? "nan" : fmt::format("{:x}:{:x}", d.high, d.bits);
}

Answer answer(const Sample& program, const Module& module, uint64_t seed, uint64_t steps) {
  Answer out;
  auto piece = Sample::fresh_piece();
  out.piece.assign(piece.begin(), piece.end());
  Evaluator e(module, {.seed = seed, .step_limit = steps});
  for (size_t k = 0; k < module.symbol_count(); ++k)
    if (module[Symbol(k)].kind == SymbolKind::ExternFunction)
      // What any function of floats might give, the same for the same arguments.
      e.provide(Symbol(k), [](HostCall& call) {
        uint64_t bits = 0x3ff0000000000000;
        for (const Datum& d : call.arguments) bits ^= d.bits & 0xfffff;
        for (Datum& d : call.results) d.bits = bits & 0x3fffffff;
        return true;
      });
  Outcome run = e.call(program.main, testing::sample_arguments(program, e.attach(out.piece, "piece")));
  out.end = run.end;
  out.message = run.message;
  size_t at = 0;
  for (Type t : module.signature(program.main)->results)
    for (unsigned lane = 0; lane < t.lanes() && at < run.results.size(); ++lane, ++at)
      out.results.push_back(shown(run.results[at], t.element()));
  auto data = e.data(module.find("store"));
  out.data.assign(data.begin(), data.end());
  return out;
}

std::vector<std::string> pipelines(std::mt19937_64& random, size_t programs_before) {
  std::vector<std::string> names, out;
  for (const Level& l : all_levels()) out.push_back(l.pipeline().text());
  if (std::getenv("PORPHYRY_ONLY_LEVELS")) return out;
  for (const auto& p : standard_passes().all()) names.push_back(p->name);
  size_t n = names.size();
  // Each pass alone on every program; pairs in turn, one program after the other.
  for (const std::string& name : names) out.push_back(name);
  for (size_t k = 0; k < 4; ++k) {
    size_t pair = (programs_before * 4 + k) % (n * n);
    out.push_back(names[pair / n] + "; " + names[pair % n]);
  }
  for (int k = 0; k < 4; ++k) {
    std::string text;
    for (size_t length = 2 + random() % 10; length-- > 0;) text += names[random() % n] + "; ";
    out.push_back(text);
  }
  return out;
}

TEST(Passes, MeanTheSameAloneInPairsAndInAnyOrder) {
  const char* asked = std::getenv("PORPHYRY_PROGRAMS");
  const char* start = std::getenv("PORPHYRY_FIRST_SEED");
  size_t count = asked ? std::strtoull(asked, nullptr, 10) : testing::part_of(400);
  uint64_t first = start ? std::strtoull(start, nullptr, 10) : 1;
  std::mt19937_64 random(first);
  size_t compared = 0;
  for (uint64_t seed = first; seed < first + count; ++seed) {
    Realm realm;
    Sample program = make_sample(realm, {.seed = seed, .lanes = seed % 3 == 0 ? 80u : 0u});
    Answer meant = answer(program, *program.module, 1, 400'000);
    if (meant.end != Outcome::End::Result && meant.end != Outcome::End::Trap) continue;
    for (const std::string& text : pipelines(random, seed)) {
      auto module = clone(*program.module);
      Diagnostics broken = run_pipeline(*module, *read_pipeline(text), {.check_between = true});
      ASSERT_TRUE(broken.empty()) << seed << ": " << text << "\n" << render(broken);
      Answer now = answer(program, *module, 1 + seed % 2, 40'000'000);
      ASSERT_TRUE(meant == now) << "seed " << seed << ", after '" << text
                                << "': " << static_cast<int>(meant.end) << " and "
                                << static_cast<int>(now.end) << " " << now.message;
      ++compared;
    }
  }
  EXPECT_GT(compared, count * 4);
}

// Every divisor of small widths with every dividend, and hard ones of the others: no division is left, and
// the evaluator's answers are those of `compute`.
TEST(Divide, ByEveryConstantIsAProduct) {
  std::mt19937_64 random(11);
  size_t compared = 0;
  for (unsigned width : {4u, 5u, 7u, 8u, 13u, 16u, 32u, 33u, 63u, 64u})
    for (Op op : {Op::DivU, Op::RemU, Op::DivS, Op::RemS}) {
      Type t = Type::integer(width);
      std::vector<Bits> divisors, dividends;
      auto edges = [&](std::vector<Bits>& out, size_t count) {
        for (Bits around : {Bits(0), Bits(1) << (width - 1), mask_of(width) / 3, mask_of(width) / 7})
          for (int k = -3; k <= 3; ++k) out.push_back((around + static_cast<Bits>(k)) & mask_of(width));
        while (out.size() < count) out.push_back((random() >> random() % 64) & mask_of(width));
      };
      if (width <= 8)
        for (Bits d = 0; d <= mask_of(width); ++d) divisors.push_back(d), dividends.push_back(d);
      else
        edges(divisors, testing::part_of(160)), edges(dividends, 60);
      for (Bits d : divisors) {
        Bits magnitude =
            (op == Op::DivS || op == Op::RemS) && (d >> (width - 1) & 1) ? -d & mask_of(width) : d;
        if (magnitude < 2) continue;
        Realm realm;
        Module module(realm);
        Symbol s = module.add_function("f", {{t}, {t}});
        Pen pen(module, module.function(s));
        pen.at_end(module.function(s).add_block());
        pen.return_values(
            {pen.write(op, {module.function(s).parameters()[0], module.function(s).constant(t, d)})});
        ASSERT_TRUE(run_pipeline(module, *read_pipeline("divide"), {.check_between = true}).empty());
        for (Instruction i : module.function(s).instructions(module.function(s).entry()))
          ASSERT_NE(module.function(s).op(i), op);
        Evaluator e(module);
        for (Bits x : dividends) {
          Bits in[] = {x, d};
          Bits meant = compute(op, t, t, in).bits;
          Datum given = Datum::of(x);
          Outcome o = e.call(s, {&given, 1});
          ASSERT_TRUE(o.end == Outcome::End::Result && o.results[0].word() == meant)
              << info(op).name << " i" << width << " " << uint64_t(x) << " by " << uint64_t(d) << ": "
              << o.results[0].bits << " for " << uint64_t(meant);
          ++compared;
        }
      }
    }
  EXPECT_GT(compared, 100'000u / testing::checked_part);
}

}  // namespace
}  // namespace porphyry
