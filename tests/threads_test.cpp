// What several threads do at once. This file is also built with the checker of threads, alone.
#include <fmt/format.h>
#include <gtest/gtest.h>

#include <thread>

#include "porphyry/ask/hunt.h"
#include "porphyry/eval/evaluator.h"
#include "porphyry/formats/packed.h"
#include "porphyry/host/instance.h"
#include "porphyry/jit/apart.h"
#include "porphyry/passes/passes.h"
#include "porphyry/print/print.h"
#include "porphyry/render/diagnostics.h"
#include "porphyry/render/notes.h"
#include "porphyry/sample/reduce.h"
#include "porphyry/sample/sample.h"
#include "porphyry/targets/targets.h"
#include "support/process.h"
#include "support/read.h"
#include "support/wasm_build.h"

namespace porphyry {
namespace {

// Realms share nothing: threads that have one each need no lock.
TEST(Threads, WorkApartInRealmsOfTheirOwn) {
  auto work = [](uint64_t first) {
    std::string out;
    for (uint64_t seed = first; seed < first + 25; ++seed) {
      Realm realm, other;
      Sample sample = make_sample(realm, {.seed = seed});
      std::string packed = write_packed(*sample.module);
      auto back = load_packed(other, "x", packed);
      EXPECT_TRUE(back.good()) << render(back.why());
      auto piece = Sample::fresh_piece();
      Evaluator e(**back, {.step_limit = 20000});
      size_t count = 0;
      for (Type t : (*back)->function(sample.main).signature().parameters) count += t.lanes();
      std::vector<Datum> arguments(count);
      arguments[0] = e.attach(piece, "piece");
      out += end_text(e.call(sample.main, arguments).end) + write_text(**back);
    }
    return out;
  };
  std::vector<std::string> apart(4);
  std::vector<std::thread> threads;
  for (size_t k = 0; k < apart.size(); ++k) threads.emplace_back([&, k] { apart[k] = work(k * 25 + 1); });
  for (std::thread& t : threads) t.join();
  for (size_t k = 0; k < apart.size(); ++k) EXPECT_EQ(apart[k], work(k * 25 + 1));
}

// Read, optimized and lowered: the bytes of a module.
std::vector<uint8_t> bytes_of(uint64_t seed) {
  Realm realm;
  Sample program = make_sample(realm, {.seed = seed, .layout = MemoryLayout{}});
  Realm own;
  auto module = testing::must_read(own, write_text(*program.module));
  EXPECT_EQ(render(run_pipeline(*module, level_named("-O1")->pipeline())), "");
  auto jit = Jit::compile(*module, *native_target());
  EXPECT_TRUE(jit.good()) << render(jit.why());
  std::vector<uint8_t> out;
  for (const machine::CompiledFunction& f : (*jit)->lowered().functions)
    out.insert(out.end(), f.bytes.begin(), f.bytes.end());
  return out;
}

TEST(Threads, ModulesCompileOnManyThreadsToTheSameBytes) {
  constexpr uint64_t count = 24;
  std::vector<std::vector<uint8_t>> alone, together(count);
  for (uint64_t k = 0; k < count; ++k) alone.push_back(bytes_of(700 + k));
  std::vector<std::thread> threads;
  for (int t = 0; t < 4; ++t)
    threads.emplace_back([&, t] {
      for (uint64_t k = static_cast<uint64_t>(t); k < count; k += 4) together[k] = bytes_of(700 + k);
    });
  for (std::thread& t : threads) t.join();
  for (uint64_t k = 0; k < count; ++k) EXPECT_EQ(alone[k], together[k]) << "seed " << 700 + k;
}

TEST(Threads, ManyThreadsMayCallAFunctionForTheFirstTimeAtOnce) {
  for (int round = 0; round < 20; ++round) {
    Realm realm;
    std::string text = "module watch\n";
    for (int k = 0; k < 24; ++k)
      text += fmt::format(
          "func post{0}(n: i64) -> i64 {{\nenter:\n  when_zero = eq n, 0\n  when when_zero go stop else "
          "next\n"
          "stop:\n  return {0}\nnext:\n  m = sub n, 1\n  r = call post{1}(m)\n  s = add r, {0}\n  return "
          "s\n}}\n",
          k, (k * 7 + 5) % 24);
    auto module = testing::must_read(realm, text);
    auto eager = Jit::compile(*module, *native_target()),
         lazy = Jit::compile(*module, *native_target(), {}, usual_externals, {.lazy = true});
    std::vector<std::string> wrong(8);
    {
      std::vector<std::jthread> threads;
      for (int t = 0; t < 8; ++t)
        threads.emplace_back([&, t] {
          for (int k = 0; k < 24; ++k) {
            std::string name = fmt::format("post{}", (k * (2 * t + 1)) % 24);
            int64_t is = (*(*lazy)->function<int64_t(int64_t)>(name))(40),
                    should = (*(*eager)->function<int64_t(int64_t)>(name))(40);
            if (is != should) wrong[static_cast<size_t>(t)] = name;
          }
        });
    }
    for (const std::string& w : wrong) EXPECT_EQ(w, "");
    EXPECT_EQ((*lazy)->lowered().functions.size(), 24u);
  }
}

// The tool does its inputs on all cores.
TEST(Threads, TheToolLowersManyInputs) {
  testing::TemporaryFolder folder;
  std::string files;
  for (int k = 0; k < 8; ++k) {
    Realm realm;
    std::string text = write_text(*make_sample(realm, {.seed = 900u + k, .layout = MemoryLayout{}}).module);
    files += " " + folder.write(fmt::format("night{}.por", k), text);
  }
  testing::Ran all = testing::run_command(fmt::format("mkdir {0} && {1} lower -O1 --as object{2} -o {0} 2>&1",
                                                      folder.file("out"), PORPHYRY_TOOL, files));
  EXPECT_EQ(all.status, 0) << all.out;
  EXPECT_EQ(all.out, "");
}

// A module of WebAssembly with enough code for several threads, each function with its own mistakes or none.
std::string many_functions(bool wrong) {
  using namespace testing::wasm_text;
  WasmModule m;
  m.memory(1, 9);
  uint32_t t = m.type("ii", "i");
  std::string code;
  for (int k = 0; k < 60; ++k)
    code += block("", loop("", get(0) + get(1) + op(0x6a) + tee(0) + i32(k) + op(0x73) + set(1) + get(0) +
                                   i32(0xfff8) + op(0x71) + access(0x28) + get(1) + op(0x46) + branch_if(1)));
  for (int k = 0; k < 100; ++k)
    m.exported("f" + std::to_string(k), m.function(t, "",
                                                   code + i32(k % 2) + op(0x40) + op(0) + op(0x1a) +
                                                       (wrong && k % 3 == 0 ? i64(k) : get(0))));
  m.exported("outside", m.function(t, "", get(0) + access(0x28)));
  return m.bytes();
}

TEST(Threads, ReadTheSameModuleWhateverTheirNumber) {
  auto read = [](bool wrong, unsigned threads) {
    Realm realm;
    auto program = wasm::read_wasm(realm, "many.wasm", many_functions(wrong), {.threads = threads});
    return program ? write_text(*program->module) : render(program.why());
  };
  for (bool wrong : {false, true}) {
    const std::string one = read(wrong, 1);
    EXPECT_EQ(one.find("takes") != one.npos || one.find("is on the stack") != one.npos, wrong);
    for (unsigned threads : {2, 3, 8}) EXPECT_EQ(read(wrong, threads), one) << threads;
  }
}

TEST(Threads, InstancesOfOneProgramRunSideBySide) {
#ifdef __SANITIZE_THREAD__
  constexpr bool traps = false;  // the checker does not bear what leaves a signal's handler by a jump
#else
  constexpr bool traps = true;
#endif
  auto program = wasm::load_program("many.wasm", many_functions(false), {.guarded = traps});
  ASSERT_TRUE(program.good()) << render(program.why());
  auto code = wasm::NativeCode::compile(*program, *native_target());
  ASSERT_TRUE(code.good()) << render(code.why());
  std::vector<std::string> wrong(4);
  std::vector<std::thread> threads;
  for (size_t k = 0; k < wrong.size(); ++k)
    threads.emplace_back([&, k] {
      auto instance = make_instance(*code, {});
      if (!instance) return void(wrong[k] = render(instance.why()));
      for (int n = 0; n < 20; ++n) {
        const Datum given[] = {{static_cast<uint64_t>(n)}, {static_cast<uint64_t>(k)}};
        wasm::CallResult run = (*instance)->call("f" + std::to_string(n), given);
        if (run.end != wasm::CallResult::End::Result) wrong[k] = run.message;
        const Datum outside[] = {{0xfffffff0}, {0}};
        if (traps && (*instance)->call("outside", outside).end != wasm::CallResult::End::Trap)
          wrong[k] = "no trap outside of the memory";
      }
    });
  for (std::thread& t : threads) t.join();
  for (const std::string& w : wrong) EXPECT_EQ(w, "");
}

// Passes over several functions at a time.
TEST(Threads, AnyNumberOfThreadsLeavesTheSameBytes) {
  std::string text = "module m\n";
  for (int f = 0; f < 60; ++f) {
    text += fmt::format(
        "func f{}(n: i32, c: bool) -> i32 {{\na:\n  sum = reserve 4 align 4\n  i = reserve 4 align 4\n"
        "  store 0:i32, [sum]\n  store n, [i]\n  go loop\nloop:\n  s = load i32 [sum]\n  k = load i32 [i]\n",
        f);
    std::string last = "s";
    for (int k = 0; k < 400; ++k) {
      text += fmt::format("  v{0} = {1} {2}, {3}\n", k, k % 3 ? "add" : "mul", last,
                          k % 2 ? "k" : std::to_string(k + f));
      last = fmt::format("v{}", k);
    }
    text += fmt::format(
        "  store {}, [sum]\n  k2 = sub k, 1\n  store k2, [i]\n  more = gt.s k2, 0\n"
        "  when more go loop else between\nbetween:\n  go last\nlast:\n  s2 = load i32 [sum]\n  s3 = add s2, "
        "n\n"
        "  store s3, [sum]\n  big = gt.s s3, 99\n  when big go out else last\nout:\n  r = load i32 [sum]\n  "
        "return r\n}}\n",
        last);
  }
  std::string meant;
  for (unsigned threads : {1u, 5u}) {
    Realm realm;
    auto module = testing::must_read(realm, text);
    Notes notes;
    std::vector<StepRecord> steps;
    std::string now;
    ASSERT_TRUE(run_pipeline(*module, level_named("-O1")->pipeline(),
                             {.notes = &notes, .steps = &steps, .threads = threads})
                    .empty());
    now += render(notes);
    for (const StepRecord& s : steps)
      now += fmt::format("{} {} {} {}\n", s.function, s.pass, s.instructions_before, s.instructions_after);
    now += write_text(*module);
    if (threads == 1) meant = now;
    EXPECT_EQ(now, meant) << threads;
  }
  EXPECT_NE(meant.find("sum_2"), std::string::npos);
}

// Candidates of a search, and tries to make a program smaller, are built on several threads.
TEST(Threads, SearchesAndReductionsDoNotDependOnTheirNumber) {
  Realm realm;
  auto module = std::move(make_sample(realm, {.seed = 3, .layout = MemoryLayout{}}).module);
  std::vector<std::string> found, small;
  for (unsigned threads : {1u, 4u}) {
    HuntState state{.seed = 2};
    const HuntQuestion question{.children = 8, .threads = threads};
    auto hunt = Hunt::make(*module, question, *native_target());
    ASSERT_TRUE(hunt.good());
    for (int k = 0; k < 2; ++k) ASSERT_TRUE((*hunt)->next_generation(state));
    found.push_back(write_state(state));
    auto shows = [](const Module& m) { return write_text(m).find(" mul ") != std::string::npos; };
    if (!shows(*module)) continue;
    small.push_back(reduce_text(write_text(*reduce(*module, {}, shows, {.threads = threads})), shows,
                                {.threads = threads}));
  }
  EXPECT_EQ(found[0], found[1]);
  EXPECT_TRUE(small.empty() || small[0] == small[1]);
}

}  // namespace
}  // namespace porphyry
