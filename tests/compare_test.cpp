// Builds side by side: the figures are those of listings, lines stand once on each side, objects of other
// compilers are loaded and run, and what is timed has computed the same.
#include <gtest/gtest.h>

#include <dlfcn.h>

#include <cmath>
#include <csignal>

#include "porphyry/ask/compare.h"
#include "porphyry/jit/apart.h"
#include "porphyry/object/object.h"
#include "porphyry/print/literals.h"
#include "porphyry/render/compare.h"
#include "porphyry/sample/sample.h"
#include "porphyry/targets/targets.h"
#include "support/json.h"
#include "support/measure.h"
#include "support/process.h"
#include "support/read.h"

namespace porphyry {
namespace {

using Kind = AlignedLine::Kind;

std::unique_ptr<Module> demo(Realm& realm, const char* file) {
  SourceText source(file, testing::contents(std::string(PORPHYRY_ROOT "/demo/") + file));
  auto module = load_text(realm, source);
  EXPECT_TRUE(module.good());
  return std::move(*module);
}

TEST(Compare, FiguresAreThoseOfTheListings) {
  Realm realm;
  auto module = demo(realm, "frostwatch.por");
  std::vector<Build> builds;
  for (const Level& l : all_levels())
    builds.push_back(std::move(*build(*module, recipe_of(l), *native_target(), {.lines = true})));
  Compared table = compare(builds, *figure_named("bytes"));
  ASSERT_EQ(table.builds.size(), all_levels().size());
  // Without their lines, functions have the same names and figures.
  std::vector<Build> plain;
  for (const Level& l : all_levels())
    plain.push_back(std::move(*build(*module, recipe_of(l), *native_target())));
  EXPECT_EQ(render_json(compare(plain, *figure_named("bytes"))), render_json(table));
  double last = 1;
  for (const ComparedFunction& f : table.functions) {
    EXPECT_LE(f.change, last) << f.name;
    last = f.change;
    for (size_t b = 0; b < builds.size(); ++b) {
      const auto& listing = builds[b].functions[builds[b].find(f.name)];
      unsigned bytes = 0, instructions = 0;
      for (const auto& block : listing.blocks)
        for (const auto& line : block.lines)
          bytes += static_cast<unsigned>(line.bytes.size()), ++instructions;
      EXPECT_EQ(value_of(f, b, *figure_named("bytes")), bytes) << f.name;
      EXPECT_EQ(value_of(f, b, *figure_named("instructions")), instructions) << f.name;
    }
  }
}

// The lines of each side once and in order; equal texts are the same, a build beside itself is the same
// throughout.
TEST(Compare, LinesStandOnceOnEachSide) {
  size_t moved = 0, alike = 0;
  for (uint64_t seed = 1; seed <= 12; ++seed) {
    Realm realm;
    auto module = std::move(make_sample(realm, {.seed = seed, .layout = MemoryLayout{}}).module);
    auto one = build(*module, recipe_of(*level_named("-O1")), *native_target(), {.lines = true});
    auto two = build(*module, recipe_of(*level_named("-Os")), *native_target(), {.lines = true});
    ASSERT_TRUE(one.good() && two.good());
    for (const std::string& name : one->names) {
      if (two->find(name) >= two->functions.size()) continue;
      const auto &a = one->functions[one->find(name)], &b = two->functions[two->find(name)];
      const auto left = lines_of(a), right = lines_of(b);
      size_t l = 0, r = 0;
      int moves = 0;
      for (const AlignedLine& line : align(a, b, *native_target())) {
        ASSERT_TRUE(line.left == AlignedLine::none || line.left == l++);
        ASSERT_TRUE(line.right == AlignedLine::none || line.right == r++);
        const bool both = line.left != AlignedLine::none && line.right != AlignedLine::none;
        ASSERT_EQ(both, line.kind == Kind::Same || line.kind == Kind::Alike);
        ASSERT_TRUE(!both || (line.kind == Kind::Same) == (left[line.left]->text == right[line.right]->text));
        if (line.kind == Kind::Moved) moves += line.left != AlignedLine::none ? 1 : -1, ++moved;
        alike += line.kind == Kind::Alike;
      }
      EXPECT_EQ(l, left.size());
      EXPECT_EQ(r, right.size());
      EXPECT_EQ(moves, 0);
      for (const AlignedLine& line : align(a, a, *native_target())) ASSERT_EQ(line.kind, Kind::Same);
    }
  }
  EXPECT_GT(moved, 20u);
  EXPECT_GT(alike, 50u);
}

// Our own objects, loaded, do what the evaluator says.
TEST(LoadedObject, DoesWhatTheProgramMeans) {
  size_t ran = 0;
  for (uint64_t seed = 1; seed <= testing::part_of(32); ++seed) {
    Realm realm;
    auto module = std::move(make_sample(realm, {.seed = seed, .layout = MemoryLayout{}}).module);
    auto lowered = machine::lower(*module, *native_target(), {.exported = true});
    if (!lowered || !object_problems(*module, *native_target()).empty()) continue;
    ObjectFile object = make_object(*lowered, *native_target());
    auto loaded = LoadedObject::load(object, *native_target(), usual_externals);
    if (!loaded) continue;  // names that only a host has
    for (Symbol s : module->functions()) {
      void* address = (*loaded)->address(module->symbol_name(s));
      if (!address) continue;
      auto bridge = make_bridge(module->function(s).signature(), address, module->layout, *native_target());
      ASSERT_TRUE(bridge.good());
      auto enter = reinterpret_cast<void (*)(uint64_t*)>(bridge->code->address("enter"));
      for (const WrittenCall& call : make_calls(*module, s, {.count = 3, .attempts = 12})) {
        Seen meant = evaluate(*module, call);
        if (meant.end != Outcome::End::Result || meant.text().find("nan") != std::string::npos) continue;
        auto prepared = prepare_call(*module, call.function, call.words);
        const auto words = argument_words(*prepared);
        std::vector<uint64_t> frame(bridge->argument_words + bridge->result_words);
        bridge->put_arguments(words, frame.data());
        enter(frame.data());
        auto results = bridge->results(frame.data());
        std::string text;
        size_t at = 0;
        for (Type t : bridge->signature.results) {
          text +=
              (text.empty() ? "" : ", ") + text::literal_text(std::span(results).subspan(at, t.words()), t);
          at += t.words();
        }
        EXPECT_EQ(text.empty() ? "no result" : text, meant.text()) << seed << ": " << call.text();
        ++ran;
      }
    }
  }
  EXPECT_GT(ran, testing::part_of(60));
}

constexpr const char* other_compilers = R"(
#include <cmath>
#include <cstdint>
#include <cstring>
static int counter = 5;
const char* names[] = {"north", "south"};
extern "C" int64_t length(int64_t which) { ++counter; return (int64_t)std::strlen(names[which & 1]) + counter; }
extern "C" double root(double x) { return std::pow(x, 1.5) + std::floor(x); }
extern "C" int64_t sum(const int32_t* at, int64_t n) { int64_t s = 0; for (int64_t k = 0; k < n; ++k) s += at[k]; return s; }
extern "C" int64_t wrong(const int32_t* at, int64_t n) { int64_t s = 1; for (int64_t k = 0; k < n; ++k) s += at[k]; return s; }
extern "C" int64_t wild(const int32_t* at, int64_t) { return *(volatile int*)(16); }
)";

constexpr const char* our_sum = R"(module ours
func sum(at: ptr, n: i64) -> i64 {
enter:
  some = gt.s n, 0
  when some go round(0, 0) else done(0)
round(k: i64, s: i64):
  v  = load i32 [at + k*4]
  w  = widen.s i64 v
  s2 = add s, w
  k2 = add k, 1
  more = lt.s k2, n
  when more go round(k2, s2) else done(s2)
done(r: i64):
  return r
}
func wrong(at: ptr, n: i64) -> i64 {
enter:
  r = call sum(at, n)
  return r
}
func wild(at: ptr, n: i64) -> i64 {
enter:
  r = call sum(at, n)
  return r
}
)";

// Code that nobody here wrote: statics, tables of addresses, routines of the C library; as
// position-independent code and not.
TEST(LoadedObject, OfTheHostCompilerRunsAndIsTimed) {
  testing::TemporaryFolder folder;
  std::string source = folder.write("other.cpp", other_compilers), file = folder.file("other.o");
  Resolver externals = [](std::string_view name) { return dlsym(RTLD_DEFAULT, std::string(name).c_str()); };
  for (const char* how : {"-O2 -fPIC", "-O0 -fPIC", "-O2 -fpie", "-O1 -g -fPIC"}) {
    ASSERT_EQ(testing::run_command(fmt::format("c++ -std=c++20 {} -c {} -o {}", how, source, file)).status,
              0);
    auto object = read_object(file, testing::contents(file));
    ASSERT_TRUE(object.good());
    auto loaded = LoadedObject::load(object->file, *native_target(), externals);
    ASSERT_TRUE(loaded.good()) << how << ": " << loaded.why()[0].message;
    auto length = reinterpret_cast<int64_t (*)(int64_t)>((*loaded)->address("length"));
    EXPECT_EQ(length(0) + length(1), 5 + 6 + 5 + 7) << how;
    EXPECT_EQ(reinterpret_cast<double (*)(double)>((*loaded)->address("root"))(4.5), std::pow(4.5, 1.5) + 4);
    EXPECT_EQ((*loaded)->address("counter_that_is_not_there"), nullptr);
  }
  Realm realm;
  auto module = testing::must_read(realm, our_sum);
  auto object = read_object(file, testing::contents(file));
  std::vector<Build> builds;
  builds.push_back(
      std::move(*build(*module, recipe_of(*level_named("-O1")), *native_target(), {.run = true})));
  builds.push_back(build_of("theirs", *object, *native_target(), externals, true));
  auto good =
      measure(builds, *module, {{"sum", {"random:400:i32:3", "100"}}}, *native_target(), {.seconds = 0.1});
  EXPECT_TRUE(good.empty()) << good[0].message;
  for (const Build& b : builds) {
    const auto& time = b.times[b.find("sum")];
    ASSERT_TRUE(time.has_value());
    EXPECT_GT(time->median, 0);
    EXPECT_GE(time->median, time->least);
  }
  auto wrong =
      measure(builds, *module, {{"wrong", {"random:400:i32:3", "100"}}}, *native_target(), {.seconds = 0.1});
  ASSERT_EQ(wrong.size(), 1u);
  EXPECT_NE(wrong[0].message.find("gives other results than in -O1"), std::string::npos);
  auto wild =
      measure(builds, *module, {{"wild", {"random:400:i32:3", "100"}}}, *native_target(), {.seconds = 0.1});
  ASSERT_EQ(wild.size(), 1u);
  EXPECT_NE(wild[0].message.find("does not come to its end"), std::string::npos);
  EXPECT_FALSE(builds[1].times[builds[1].find("wild")].has_value());
}

TEST(Timing, TellsWhatEndedIt) {
  auto times =
      time_in_turn({{.name = "good", .run = [] {}}, {.name = "bad", .run = [] { raise(SIGKILL); }}}, {});
  EXPECT_NE(times[0].failed.find("'bad' ended the measurement"), std::string::npos) << times[0].failed;
  EXPECT_NE(times[1].failed.find("signal 9"), std::string::npos) << times[1].failed;
  auto endless = time_in_turn({{.name = "endless",
                                .run =
                                    [] {
                                      for (volatile int k = 0;;) k = k + 1;
                                    }}},
                              {.time_limit = 0.2});
  EXPECT_NE(endless[0].failed.find("more than 0.2 s"), std::string::npos) << endless[0].failed;
}

TEST(Compare, TheToolComparesLevelsFilesAndObjects) {
  const std::string tool = PORPHYRY_TOOL, file = PORPHYRY_ROOT "/demo/frostwatch.por",
                    night = PORPHYRY_ROOT "/demo/night.txt";
  auto ran = [&](const std::string& words) {
    return testing::run_command(tool + " compare " + words + " 2>&1");
  };
  auto grid = testing::read_json(ran(file + " --json").out);
  EXPECT_EQ(grid["builds"].size(), all_levels().size());
  EXPECT_EQ(grid["functions"].size(), 18u);
  testing::TemporaryFolder folder;
  std::string object = folder.file("o.o");
  ASSERT_EQ(testing::run_command(tool + " lower " + file + " -O1 -o " + object).status, 0);
  auto both = testing::read_json(
      ran(file + " " + object + " -O1 --json --call 'chill file:" + night + ":f32:2 96 2.5 5'").out);
  for (const auto& f : both["functions"])
    EXPECT_EQ(f["builds"][0]["instructions"], f["builds"][1]["instructions"]) << f["name"];
  size_t timed = 0;
  for (const auto& f : both["functions"])
    timed += f["builds"][0].contains("time") && f["builds"][1].contains("time");
  EXPECT_EQ(timed, 1u);
  EXPECT_NE(ran(file + " --side -O1 --side -O2 --function seal").out.find("only right"), std::string::npos);
  EXPECT_EQ(ran(file + " --by weight").status, 2);
  EXPECT_EQ(ran(file + " --by time").status, 2);
  EXPECT_EQ(ran(file + " --function seal").status, 2);
  EXPECT_EQ(ran(file + " --side '-O9'").status, 2);
  EXPECT_EQ(ran(object + " " + object + " --call 'chill 1'").status, 2);
}

}  // namespace
}  // namespace porphyry
