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
Bits result(const Module& module, std::span<const Datum> given) {
  return Evaluator(module).call(module.find("f"), given).results[0].bits;
}

// A pick in front of a comparison with a number or a value of a few bits, its constant on either side: where
// that decides, the pick goes and its condition is asked; nothing else changes, whatever comes in.
TEST(Thread, ADecidingPickIsAskedFirst) {
  size_t asked = 0, kept = 0;
  for (const char* op : {"eq", "ne", "lt.s", "le.s", "gt.s", "ge.s", "lt.u", "le.u", "gt.u", "ge.u"})
    for (const char* sides : {"0, longer", "longer, 0", "9, longer", "longer, -1"})
      for (const char* compared : {"run, 3", "3, run", "run, bound", "bound, run", "run, n"})
        for (bool used : {false, true}) {
          Realm realm;
          auto module = testing::must_read(realm, fmt::format(R"(module m
func f(n: i32, c: bool) -> i32 {{
enter:
  few    = and n, 3
  bound  = add few, 2
  twice  = mul n, 5
  longer = sub twice, 4
  run    = pick c, {}
  far    = {} {}
  when far go yes else no(run)
yes:
  return {}
no(r: i32):
  out = sub 100, r
  return out
}}
)",
                                                              sides, op, compared, used ? "run" : "n"));
          auto plain = clone(*module);
          ASSERT_TRUE(run_pipeline(*module, *read_pipeline("thread"), {.check_between = true}).empty());
          std::string is = write_text(*module);
          ++(is.find("pick") == is.npos ? asked : kept);
          for (uint64_t n = 0; n < 16; ++n)
            for (uint64_t c : {0u, 1u}) {
              Datum given[] = {{(n - 6) & 0xffffffff, 0}, {c, 0}};
              ASSERT_EQ(result(*plain, given), result(*module, given)) << n << " " << c << "\n" << is;
            }
        }
  EXPECT_GT(asked, 200u);
  EXPECT_GT(kept, 50u);  // against a value of which nothing is known
}

// What a branch on several conditions tells, behind it and in loops behind it: no condition is asked twice.
TEST(Propagate, KnowsBothOperandsOfAndAndOr) {
  Realm realm;
  auto module = testing::must_read(realm, R"(module m
func f(a: i32, b: i32, n: i32) -> i32 {
enter:
  x = eq a, 7
  y = lt.u b, 4
  z = ne n, 0
  xy = or x, y
  nz = not z
  all = or xy, nz
  when all go out(0) else loop(n, 0)
loop(k: i32, s: i32):
  w = widen.u i32 x
  v = widen.u i32 y
  t = add s, w
  u = add t, v
  k2 = sub k, 1
  done = eq k2, 0
  leaves = or done, x
  few = lt.u b, 3
  stops = or leaves, few
  when stops go out(u) else loop(k2, u)
out(r: i32):
  return r
}
)");
  auto plain = clone(*module);
  ASSERT_TRUE(
      run_pipeline(*module, *read_pipeline("propagate; fold; sweep"), {.check_between = true}).empty());
  std::string is = write_text(*module), loop = is.substr(is.find("loop(k"));
  for (const char* gone : {"widen", "or ", "lt.u"}) EXPECT_EQ(loop.find(gone), loop.npos) << is;
  for (uint64_t a : {6u, 7u})
    for (uint64_t b : {3u, 4u})
      for (uint64_t n : {0u, 1u, 5u}) {
        Datum given[] = {{a, 0}, {b, 0}, {n, 0}};
        EXPECT_EQ(result(*plain, given), result(*module, given));
      }
}

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
