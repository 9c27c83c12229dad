// Lowering as a whole: one that takes a module over gives what one that copies gives, and what it takes of
// memory.
#include <fmt/format.h>
#include <gtest/gtest.h>
#include <sys/wait.h>
#include <unistd.h>
#include <map>

#include <fstream>

#include "porphyry/eval/evaluator.h"
#include "porphyry/ir/clone.h"
#include "porphyry/ir/pen.h"
#include "porphyry/jit/apart.h"
#include "porphyry/machine/listing.h"
#include "porphyry/machine/lower.h"
#include "porphyry/object/debug_steps.h"
#include "porphyry/object/object.h"
#include "porphyry/passes/passes.h"
#include "porphyry/print/print.h"
#include "porphyry/render/listing.h"
#include "porphyry/sample/sample.h"
#include "porphyry/simulate/code_run.h"
#include "porphyry/simulate/run.h"
#include "porphyry/targets/targets.h"
#include "support/measure.h"
#include "support/read.h"
#include "support/targets.h"

namespace porphyry {
namespace {

using machine::CompiledFunction;
using machine::EmittedLine;
using machine::LowerOptions;
using testing::target;

TEST(Lower, TakingAModuleOverGivesWhatACopyGives) {
  for (uint64_t seed = 1; seed <= testing::part_of(60); ++seed) {
    Realm realm;
    Sample program = make_sample(realm, {.seed = seed, .layout = MemoryLayout{}});
    auto kept = machine::lower(*program.module, target(), {.explain = true});
    ASSERT_TRUE(kept.good()) << render(kept.why());
    std::string bytes = elf_bytes(make_object(*kept, target())), text = render_assembly(*kept, target());
    for (bool bodies : {true, false})
      for (bool over : {false, true}) {
        LowerOptions options{.keep_bodies = bodies};
        auto is = over ? machine::lower(clone(*program.module), target(), options)
                       : machine::lower(*program.module, target(), options);
        ASSERT_TRUE(is.good()) << render(is.why());
        EXPECT_EQ(elf_bytes(make_object(*is, target())), bytes) << seed << bodies << over;
        EXPECT_EQ(is->source_signatures, kept->source_signatures);
        EXPECT_EQ(is->parameter_names, kept->parameter_names);
        if (bodies) {
          EXPECT_EQ(write_text(*is->legal), write_text(*kept->legal));
          EXPECT_EQ(render_assembly(*is, target()), text);
        }
        for (size_t k = 0; k < is->legal->symbol_count() && !bodies; ++k)
          if (is->legal->is_function(Symbol(k))) {
            EXPECT_EQ(is->legal->function(Symbol(k)).block_limit(), 0u);
          }
      }
  }
}

TEST(Lower, ProblemsAreToldAndNothingIsLost) {
  Realm realm;
  auto big = testing::must_read(realm, "module m\nlayout big\nfunc f() {\na:\n  return\n}\n");
  for (bool over : {false, true}) {
    auto is = over ? machine::lower(clone(*big), target()) : machine::lower(*big, target());
    ASSERT_FALSE(is.good());
    EXPECT_NE(render(is.why()).find("'layout big' is not how x64 lays out memory"), std::string::npos);
  }
}

#ifndef __SANITIZE_ADDRESS__
size_t status_bytes(const std::string& what) {
  std::ifstream status("/proc/self/status");
  for (std::string line; std::getline(status, line);)
    if (line.starts_with(what)) return std::strtoull(line.c_str() + what.size(), nullptr, 10) << 10;
  return 0;
}

// A function of many loops one behind the other, in which most values live for a while.
std::string long_function(size_t loops) {
  std::string out = "module m\nfunc f(n: i32, seed: i32) -> i32 {\nenter:\n  go loop0(0, seed)\n";
  for (size_t k = 0; k < loops; ++k)
    out += fmt::format(
        "loop{0}(i{0}: i32, x{0}: i32):\n  a{0} = mul x{0}, 3\n  b{0} = add a{0}, i{0}\n  c{0} = rem.u b{0}, "
        "17\n"
        "  d{0} = shl c{0}, 1\n  e{0} = shr.u b{0}, 5\n  f{0} = xor d{0}, e{0}\n  o{0} = and f{0}, 1\n"
        "  s{0} = ne o{0}, 0\n  when s{0} go up{0} else next{0}(f{0})\nup{0}:\n  g{0} = add f{0}, 3\n  go "
        "next{0}(g{0})\n"
        "next{0}(y{0}: i32):\n  j{0} = add i{0}, 1\n  m{0} = lt.s j{0}, n\n  when m{0} go loop{0}(j{0}, "
        "y{0}) else {1}\n",
        k, k + 1 < loops ? fmt::format("loop{}(0, y{})", k + 1, k) : std::string("out"));
  return out + fmt::format("out:\n  return y{}\n}}\n", loops - 1);
}

// In a process of its own, so that what others took before does not hide it; large, as the system counts its
// pages by the handful.
TEST(Lower, AHugeFunctionTakesLittleMemoryAboveTheModule) {
  pid_t child = fork();
  if (child == 0) {
    Realm realm;
    auto module = testing::must_read(realm, long_function(7143));
    size_t instructions = 0;
    for (size_t k = 0; k < module->symbol_count(); ++k)
      instructions += module->function(Symbol(k)).instruction_limit();
    std::ofstream reset("/proc/self/clear_refs");  // the peak is counted from here
    reset << 5 << std::flush;
    if (!reset) _exit(77);
    size_t before = status_bytes("VmRSS:");
    auto lowered = machine::lower(std::move(module), target(), {.keep_bodies = false});
    if (!lowered || elf_bytes(make_object(*lowered, target())).empty()) _exit(1);
    size_t each = (status_bytes("VmHWM:") - before) / instructions;
    _exit(each < 300 ? 0 : 2);
  }
  int status = 0;
  waitpid(child, &status, 0);
  if (WIFEXITED(status) && WEXITSTATUS(status) == 77) GTEST_SKIP() << "the system does not tell peaks";
  EXPECT_TRUE(WIFEXITED(status) && WEXITSTATUS(status) == 0)
      << status << ": 300 bytes an instruction and more";
}
#endif

// ---- what grows -------------------------------------------------------------------------------------------

// Counters of loops nested so deep, each with its sum; in the innermost one, memory is added and written as
// well.
std::string nest(int depth, bool memory = false) {
  std::string out =
      fmt::format("module nest\nlayout little\nfunc f(n: i64{}) -> i64 {{\nenter:\n  go h0(0, 0)\n",
                  memory ? ", p: ptr" : "");
  for (int d = 0; d < depth; ++d)
    out += fmt::format("h{0}(i{0}: i64, s{0}: i64):\n  m{0} = lt.s i{0}, n\n  when m{0} go {1} else x{0}\n",
                       d, d + 1 < depth ? fmt::format("h{}(0, s{})", d + 1, d) : "body");
  out += "body:\n";
  if (memory)
    out += fmt::format("  v = load i64 [p]\n  t = add s{}, v\n  store t, [p]\n", depth - 1);
  else
    out += fmt::format("  t = add s{0}, i{0}\n", depth - 1);
  out += fmt::format("  j{0} = add i{0}, 1\n  go h{0}(j{0}, t)\n", depth - 1);
  for (int d = depth - 1; d > 0; --d)
    out += fmt::format("x{0}:\n  j{1} = add i{1}, 1\n  go h{1}(j{1}, s{0})\n", d, d - 1);
  return out + "x0:\n  return s0\n}\n";
}

TEST(Growth, DeepNestsTakeFewRoundsOfAllocation) {
  Realm realm;
  auto module = testing::must_read(realm, nest(700));
  auto lowered = machine::lower(*module, target(), {.explain = true});
  ASSERT_TRUE(lowered.good()) << render(lowered.why());
  EXPECT_LE(lowered->functions[0].explained->rounds, 6u);  // a round for each level, once
  Realm small;
  auto shallow = testing::must_read(small, nest(5));
  auto jit = Jit::compile(*shallow, target(), {.check_allocation = true});
  ASSERT_TRUE(jit.good()) << render(jit.why());
  Evaluator e(*shallow);
  Datum n{4, 0};
  EXPECT_EQ((*Caller::make(**jit, "f", target()))->call(std::vector<uint64_t>{4})[0],
            e.call(shallow->find("f"), {&n, 1}).results[0].bits);
}

// What every loop of a nest uses finds no register in the outer ones, and is not pushed inside loop by loop.
TEST(Growth, WhatAllLoopsOfADeepNestUseTakesFewRounds) {
  const Pipeline pipeline = level_named("-O2")->pipeline();
  for (int depth : {12, 300}) {
    Realm realm;
    auto module = testing::must_read(realm, nest(depth, true));
    auto meant = clone(*module);
    ASSERT_TRUE(run_pipeline(*module, pipeline).empty());
    auto lowered = machine::lower(*module, target(), {.explain = true});
    ASSERT_TRUE(lowered.good()) << render(lowered.why());
    EXPECT_LE(lowered->functions[0].explained->rounds, 24u) << depth;
    auto jit = Jit::compile(*module, target(), {.check_allocation = true});
    ASSERT_TRUE(jit.good()) << render(jit.why());
    const uint64_t n = depth == 12 ? 2 : 1;
    int64_t is = 3;
    auto run = reinterpret_cast<int64_t (*)(uint64_t, int64_t*)>((*jit)->address("f"));
    const int64_t result = run(n, &is);
    Evaluator e(*meant);
    std::vector<uint8_t> left{3, 0, 0, 0, 0, 0, 0, 0};
    const Datum arguments[] = {{n, 0}, e.attach(left, "memory")};
    EXPECT_EQ(static_cast<uint64_t>(result), e.call(meant->find("f"), arguments).results[0].bits) << depth;
    EXPECT_EQ(std::memcmp(left.data(), &is, 8), 0) << depth;
  }
}

TEST(Growth, ManyLargeConstantsAreLowered) {
  std::string text = "module m\nfunc f(p: ptr) {\nenter:\n";
  for (size_t k = 0; k < testing::part_of(1200); ++k) {
    text += "  store {";
    for (int lane = 0; lane < 1024; ++lane)
      text += fmt::format("{}{}", lane ? ", " : "", (k * 7919 + lane * 31) % 251);
    text += fmt::format("}}:i64[1024], [p + {}]\n", k * 8192);
  }
  Realm realm;
  auto module = testing::must_read(realm, text + "  return\n}\n");
  EXPECT_TRUE(testing::stays_within_bounds(
      [&] { EXPECT_TRUE(machine::lower(*module, target(), {.keep_bodies = false}).good()); }));
}

// Keys of the order are spread out where they are used up: far from n steps for each insertion.
TEST(Growth, MuchIsInsertedBeforeOneInstruction) {
  EXPECT_TRUE(testing::stays_within_bounds([] {
    Realm realm;
    Module built(realm);
    Function& f = built.function(built.add_function("f", {{Type::integer(64)}, {}}));
    Pen pen(built, f);
    pen.at_end(f.add_block()).return_values({});
    Instruction last = f.terminator(f.entry()), before = last;
    for (size_t k = 0; k < testing::part_of(400000); ++k) {
      before = f.definition(pen.before(k % 2 ? last : before).add(f.parameters()[0], f.parameters()[0]));
      ASSERT_TRUE(f.comes_before(before, last));
    }
    for (Instruction i = f.first(f.entry()); f.next(i).exists(); i = f.next(i))
      ASSERT_TRUE(f.comes_before(i, f.next(i)));
  }));
}

TEST(Growth, ZerosAreNotWrittenOut) {
  Realm realm;
  auto module = testing::must_read(realm, "module m\ndata d align 4 holds zero: 4294967296\n");
  EXPECT_TRUE(testing::stays_within_bounds([&] {
    auto lowered = machine::lower(*module, target(), {.exported = true});
    EXPECT_LT(elf_bytes(make_object(*lowered, target())).size(), 1000u);
    EXPECT_LT(render_assembly(*lowered, target()).size(), 1000u);
  }));
}

TEST(Frames, LargeOnesAreTouchedInALoopAndTooLargeOnesRefused) {
  auto text = [](uint64_t bytes) {
    return fmt::format(
        "module m\nfunc f(k: i64) -> i64 {{\nenter:\n  p = reserve {0} align 16\n  store k, [p]\n  store k, "
        "[p + {1}]\n"
        "  v = load i64 [p]\n  w = load i64 [p + {1}]\n  s = add v, w\n  return s\n}}\n",
        bytes, bytes - 8);
  };
  for (uint64_t bytes : {uint64_t(3) << 12, uint64_t(20) << 12, uint64_t(600) << 10, uint64_t(16) << 20,
                         uint64_t(2040) << 20}) {
    Realm realm;
    auto module = testing::must_read(realm, text(bytes));
    auto jit = Jit::compile(*module, target(), {.check_allocation = true});
    ASSERT_TRUE(jit.good()) << bytes;
    EXPECT_LT((*jit)->lowered().functions[0].bytes.size(), 120u) << bytes;
    if (bytes > 1 << 20) continue;
    EXPECT_EQ((*Caller::make(**jit, "f", target()))->call(std::vector<uint64_t>{21})[0], 42u) << bytes;
    auto runner = simulate::Runner::make(**jit, "f", target());
    simulate::RunOutcome run = (*runner)->run(std::vector<uint64_t>{21});
    ASSERT_TRUE(run.results.size() == 1) << bytes << run.message;
    EXPECT_EQ(run.results[0], 42u) << bytes;
  }
  Realm realm;
  auto module = testing::must_read(realm, text(uint64_t(1) << 31));
  auto refused = machine::lower(*module, target());
  ASSERT_FALSE(refused.good());
  EXPECT_NE(render(refused.why()).find("at most 2143289344 bytes"), std::string::npos)
      << render(refused.why());
  // An offset far outside of a frame object, and back: what is folded has to fit.
  Realm far;
  auto there = testing::must_read(
      far,
      "module m\nfunc f() -> i64 {\nenter:\n  big = reserve 1000000 align 16\n  p = reserve 16 align 16\n"
      "  store 5:i64, [p]\n  q = at [p + 2147483000]\n  r = at [q - 2147483000]\n  store 1:i64, [big]\n"
      "  v = load i64 [r]\n  return v\n}\n");
  auto jit = Jit::compile(*there, target());
  ASSERT_TRUE(jit.good()) << render(jit.why());
  EXPECT_EQ((*Caller::make(**jit, "f", target()))->call({})[0], 5u);
}

// ---- return calls -----------------------------------------------------------------------------------------

// Parameters that took room on the stack stay where a call in the function's place wants it.
TEST(ReturnCalls, KeepTheRoomThatTheyPassTheirArgumentsIn) {
  Realm realm;
  auto module = testing::must_read(realm, R"(module m
func last(a: f64[8]) -> f64 never inline {
enter:
  r = lane a, 3:i32
  return r
}
local func hands_on(a: f64[8], n: i64, unused: i64) -> f64 never inline {
enter:
  f = to_float.s f64 n
  b = splat f64[8] f
  return call last(b)
}
func f(n: i64) -> f64 {
enter:
  r = call hands_on(0.0, n, 5)
  return r
}
)");
  for (const Level& level : all_levels()) {
    auto made = clone(*module);
    ASSERT_TRUE(run_pipeline(*made, level.pipeline(), {.check_between = true}).empty());
    auto lowered = machine::lower(*made, target(), LowerOptions::at(level));
    EXPECT_TRUE(lowered.good()) << level.name << render(lowered.why()) << write_text(*made);
  }
}

TEST(ReturnCalls, LeaveNoFrameWhateverTheyPassOrAreRefused) {
  const char* text = R"(module tail
func even(n: i64, a: i64, b: i64, c: i64, d: i64, e: i64, x: i64, y: i64, z: i128) -> i64 {
enter:
  done = eq n, 0
  when done go out else on
out:
  s = sub x, y
  w = narrow i64 z
  r = add s, w
  return r
on:
  n2 = sub n, 1
  x2 = add x, 3
  y2 = add y, 1
  z2 = add z, 1
  return call odd(n2, b, a, c, d, e, y2, x2, z2)
}
func odd(n: i64, a: i64, b: i64, c: i64, d: i64, e: i64, x: i64, y: i64, z: i128) -> i64 {
enter:
  return call even(n, a, b, c, d, e, y, x, z)
}
)";
  Realm realm;
  auto module = testing::must_read(realm, text);
  auto jit = Jit::compile(*module, target(), {.check_allocation = true});
  ASSERT_TRUE(jit.good()) << render(jit.why());
  auto caller = Caller::make(**jit, "even", target());
  std::vector<uint64_t> words{10'000'000, 1, 2, 3, 4, 5, 600, 7, 11, 0};
  NativeOutcome run = (*caller)->call_apart(words);
  ASSERT_EQ(run.results.size(), 1u) << run.message;
  EXPECT_EQ(run.results[0], 600u + 30'000'000 - 7 - 10'000'000 + 11 + 10'000'000);
  words[0] = 1000;
  Evaluator e(*module);
  std::vector<Datum> data;
  for (size_t k = 0; k < 9; ++k) data.push_back({words[k], 0});
  uint64_t meant = e.call(module->find("even"), data).results[0].bits;
  for (simulate::Stage stage : {simulate::Stage::Selected, simulate::Stage::Allocated}) {
    auto runner = simulate::CodeRunner::make(**jit, target(), stage);
    EXPECT_EQ((*runner)->run("even", words).results[0], meant);
  }
  // One that has been passed less has no room: every mistake is told, and lazily compiled code is refused as
  // well.
  Realm other;
  auto wrong = testing::must_read(
      other, std::string(text) +
                 "func few(n: i64) -> i64 {\nenter:\n  return call even(n, 1, 2, 3, 4, 5, 6, 7, 8)\n}\n"
                 "func less(n: i64) -> i64 {\nenter:\n  return call odd(n, 1, 2, 3, 4, 5, 6, 7, 8)\n}\n");
  for (bool lazy : {false, true}) {
    auto refused = Jit::compile(*wrong, target(), {}, usual_externals, {.lazy = lazy});
    ASSERT_FALSE(refused.good());
    EXPECT_EQ(refused.why().size(), 2u);
    EXPECT_NE(render(refused.why())
                  .find("in 'few': a return call passes 32 bytes on the stack, where the function itself was "
                        "passed 0"),
              std::string::npos)
        << render(refused.why());
  }
}

// ---- listings ---------------------------------------------------------------------------------------------

// Each line is the instruction that its row says, and each stay is one in which the simulated register keeps
// what it holds: it changes only where the value is put there. What an instruction reads is there by some
// stay.
TEST(Listings, LinesHaveTheirOwnRowsAndValuesLiveWhereTheySay) {
  size_t stays_seen = 0;
  auto register_named = [](const std::string& name) {
    unsigned r = 0;
    while (target().register_name(r, target().classes[target().class_of(r)].bits) != name) ++r;
    return r;
  };
  auto mnemonic = [](machine::FormIndex f) {
    std::string_view all = target().form(f).spelling;
    return all.substr(0, all.find(' '));
  };
  for (uint64_t seed = 1; seed <= testing::part_of(120); ++seed) {
    Realm realm;
    Sample program = make_sample(realm, {.seed = seed, .layout = MemoryLayout{}});
    if (seed % 2) {
      EXPECT_EQ(render(run_pipeline(*program.module, level_named("-O1")->pipeline())), "");
    }
    LowerOptions options{.schedule = seed % 2 == 1,
                         .align_loops = seed % 2 == 1,
                         .repeat_tails = seed % 4 > 1,
                         .explain = true};
    auto jit = Jit::compile(*program.module, target(), options);
    ASSERT_TRUE(jit.good()) << render(jit.why());
    std::map<uint64_t, std::pair<const machine::CompiledFunction*, const machine::EmittedLine*>> line_at;
    std::map<const machine::CompiledFunction*, machine::FunctionListing> listings;
    for (const auto& f : (*jit)->lowered().functions) {
      listings[&f] = machine::make_listing((*jit)->lowered(), f, target());
      render(listings[&f], false, true), render_json({listings[&f]});
      uint64_t start = reinterpret_cast<uint64_t>((*jit)->address(f.name));
      const machine::Code& code = f.explained->code;
      for (const machine::EmittedLine& l : f.lines) {
        line_at[start + l.offset] = {&f, &l};
        if (l.row == machine::EmittedLine::no_row) continue;
        ASSERT_LT(l.row, code.code.size()) << "seed " << seed;
        const machine::CodeLine& row = code.code[l.row];
        ASSERT_EQ(row.origin, l.origin) << "seed " << seed;
        machine::PlainInstruction plain = machine::instruction_at(target(), f, l);
        if (row.form >= machine::first_real_form && l.to != machine::EmittedLine::To::Block) {
          ASSERT_EQ(mnemonic(plain.form), mnemonic(row.form)) << "seed " << seed;
        }
        if (l.to == machine::EmittedLine::To::Block) {
          ASSERT_TRUE(target().form(row.form).is_jump) << "seed " << seed;
        }
      }
    }
    auto runner = simulate::Runner::make(**jit, program.module->symbol_name(program.main), target());
    auto piece = Sample::fresh_piece();
    (*runner)->allow(piece);
    std::vector<uint64_t> words{reinterpret_cast<uint64_t>(piece.data())};
    words.insert(words.end(), program.arguments.begin(), program.arguments.end());
    simulate::State before(target());
    bool started = false;
    (*runner)->run(words,
                   {.step_limit = 3000, .see = [&](const simulate::Observation& seen) {
                      auto found = line_at.find(seen.address);
                      if (found != line_at.end() && started) {
                        auto [f, line] = found->second;
                        for (const auto& life : listings[f].lives)
                          for (const auto& stay : life.stays) {
                            if (stay.from >= line->offset || line->offset >= stay.to || stay.where[0] == '[')
                              continue;
                            bool begins = false;
                            for (const auto& other : life.stays)
                              begins |= other.where == stay.where && other.from == line->offset;
                            unsigned r = register_named(stay.where);
                            ++stays_seen;
                            EXPECT_TRUE(begins || before.registers[r] == seen.state->registers[r])
                                << "seed " << seed << ": " << life.value << " in " << stay.where << " at "
                                << line->offset << " of " << f->name;
                          }
                      }
                      before = *seen.state, started = true;
                    }});
    if (HasFailure()) return;
  }
  EXPECT_GT(stays_seen, 1000u / testing::checked_part);
}

// How far the caller's frame is at each line, by following jumps through the code as it was emitted, against
// what unwinders are told, from step to step.
std::vector<uint64_t> walked_distances(const CompiledFunction& f) {
  std::vector<uint64_t> at(f.lines.size());
  std::vector<std::pair<size_t, uint64_t>> work{{0, target().frame.return_bytes}};
  auto line_of = [&](uint32_t block) {
    auto line = std::find_if(f.lines.begin(), f.lines.end(), [&](const EmittedLine& l) {
      return l.offset >= f.blocks[block].offset && l.size > 0;
    });
    return static_cast<size_t>(line - f.lines.begin());
  };
  while (!work.empty()) {
    auto [k, distance] = work.back();
    work.pop_back();
    if (k >= at.size() || at[k]) {
      EXPECT_TRUE(k >= at.size() || at[k] == distance) << f.name << " at " << f.lines[k].offset;
      continue;
    }
    at[k] = distance;
    const EmittedLine& l = f.lines[k];
    const machine::PlainInstruction i = instruction_at(target(), f, l);
    if (l.role == machine::Role::Frame)
      distance += static_cast<uint64_t>(target().frame.effect(target(), i).grows);
    const machine::Form& form = target().form(i.form);
    if (l.to == EmittedLine::To::Block) work.emplace_back(line_of(l.index), distance);
    for (const auto& table : f.tables)
      for (uint32_t b : table)
        if (form.is_jump && l.to == EmittedLine::To::Nothing) work.emplace_back(line_of(b), distance);
    const bool ends = form.is_jump && !form.opposite && l.role != machine::Role::Frame;
    if (!ends && form.name != "ret" && form.name != "ud2") work.emplace_back(k + 1, distance);
  }
  return at;
}

TEST(Frame, UnwindersKnowItWhereverItIsSetUp) {
  size_t late = 0, lines = 0;
  for (uint64_t seed = 0; seed < testing::part_of(300); ++seed) {
    Realm realm;
    Sample program = make_sample(realm, {.seed = seed, .layout = MemoryLayout{}});
    auto lowered = machine::lower(*program.module, target(), {.schedule = true, .late_frame = true});
    ASSERT_TRUE(lowered.good());
    for (const CompiledFunction& f : lowered->functions) {
      const auto steps = frame_steps(f, target());
      const auto walked = walked_distances(f);
      late += f.lines[0].role != machine::Role::Frame && !steps.empty();
      uint64_t told = target().frame.return_bytes, kept = 0;
      size_t next = 0;
      for (size_t k = 0; k < f.lines.size(); ++k) {
        for (; next < steps.size() && steps[next].offset <= f.lines[k].offset; ++next) {
          if (steps[next].kind == FrameStep::Kind::Distance) told = steps[next].distance;
          if (steps[next].kind == FrameStep::Kind::Remember) kept = told;
          if (steps[next].kind == FrameStep::Kind::Recall) told = kept;
        }
        if (f.lines[k].size == 0 || walked[k] == 0) continue;
        ++lines;
        ASSERT_EQ(told, walked[k]) << "seed " << seed << ", " << f.name << " at " << f.lines[k].offset;
      }
    }
  }
  EXPECT_GT(late, testing::part_of(15));
  EXPECT_GT(lines, testing::part_of(10000));
}

}  // namespace
}  // namespace porphyry
