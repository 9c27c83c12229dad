// Just-in-time compilation: at once and on first call, by several threads, known to debuggers and profilers;
// runs in a child that end badly.
#include <fmt/format.h>
#include <gtest/gtest.h>
#include <unistd.h>

#include <fstream>

#include "porphyry/jit/apart.h"
#include "porphyry/sample/sample.h"
#include "porphyry/targets/targets.h"
#include "support/process.h"
#include "support/read.h"
#include "support/targets.h"

namespace porphyry {
namespace {

using namespace machine;
using testing::must_read;
using testing::target;

// What a page may be used for, as the system has it: "r-x".
std::string permissions(const void* p) {
  std::ifstream maps("/proc/self/maps");
  for (std::string line; std::getline(maps, line);) {
    uint64_t from = 0, to = 0;
    char what[5] = {};
    std::sscanf(line.c_str(), "%lx-%lx %4s", &from, &to, what);
    if (reinterpret_cast<uint64_t>(p) >= from && reinterpret_cast<uint64_t>(p) < to)
      return std::string(what).substr(0, 3);
  }
  return "";
}

TEST(Jit, CodeIsNeverWritableAndExecutable) {
  for (bool lazy : {false, true}) {
    Realm realm;
    auto module = must_read(realm,
                            "module m\ndata d holds i32: 1\ndata c const holds i32: 2\nfunc f() -> ptr "
                            "{\nenter:\n  p = address of d\n  return p\n}\n");
    auto jit = Jit::compile(*module, target(), {}, usual_externals, {.lazy = lazy});
    ASSERT_TRUE(jit.good()) << render(jit.why());
    EXPECT_EQ(permissions((*jit)->address("f")), "r-x");
    EXPECT_EQ(permissions((*jit)->address("c")), "r--");
    EXPECT_EQ(permissions((*jit)->address("d")), "rw-");
    EXPECT_EQ((*(*jit)->function<void*()>("f"))(), (*jit)->address("d"));
    for (const MemoryRegion& r : (*jit)->regions())
      if (r.bytes && r.executable) {
        EXPECT_EQ(permissions(r.memory), "r-x");
      }
  }
}

TEST(Jit, RefusesWithReasons) {
  Realm realm;
  auto module = must_read(realm,
                          "module m\nextern func nobody(i32) -> i32\nfunc f(a: i32) -> i32 {\nenter:\n  b = "
                          "call nobody(a)\n  return b\n}\n");
  auto jit = Jit::compile(*module, target());
  ASSERT_FALSE(jit.good());
  EXPECT_EQ(jit.why()[0].message, "nothing is known of the external 'nobody'");
  auto wide = must_read(realm, "module n\nlayout big\nfunc f() {\nenter:\n  return\n}\n");
  auto refused = Jit::compile(*wide, target());
  ASSERT_FALSE(refused.good());
  EXPECT_NE(refused.why()[0].message.find("layout big"), std::string::npos);
}

// A chain of functions, each with whole numbers, floats and words on the stack: all must survive the first
// call.
std::string chain(int length) {
  std::string out = "module watch\nextern func pow(f64, f64) -> f64\n";
  for (int k = 0; k < length; ++k) {
    std::string next = k + 1 < length
                           ? fmt::format("  s = call post{}(b, c, d, e, g, h, a, y, x, z, w, q)\n", k + 1)
                           : std::string("  s = call pow(x, 1.0)\n");
    out += fmt::format(
        "func post{}(a: i64, b: i64, c: i64, d: i64, e: i64, g: i64, h: i64, x: f64, y: f64, z: f32, w: f64, "
        "q: i128) "
        "-> f64 {{\nenter:\n{}  k = to_float.s f64 a\n  qq = div.s q, 3\n  ql = narrow i64 qq\n  qf = "
        "to_float.s f64 ql\n"
        "  zz = widen f64 z\n  t0 = add s, k\n  t1 = add t0, zz\n  t2 = sub t1, w\n  t = add t2, qf\n  "
        "return t\n}}\n",
        k, next);
  }
  return out;
}

TEST(Jit, LazilyOnlyWhatIsCalledIsCompiledAndMeansTheSame) {
  Realm realm;
  auto module = must_read(realm, chain(30));
  auto eager = Jit::compile(*module, target()),
       lazy = Jit::compile(*module, target(), {.check_allocation = true}, usual_externals, {.lazy = true});
  ASSERT_TRUE(eager.good() && lazy.good()) << render(eager.why()) << render(lazy.why());
  EXPECT_EQ((*lazy)->lowered().functions.size(), 0u);
  using Words = std::vector<uint64_t>;
  auto call = [&](const Jit& jit, const std::string& name) {
    Words a{1,
            2,
            3,
            4,
            5,
            6,
            7,
            std::bit_cast<uint64_t>(1.5),
            std::bit_cast<uint64_t>(2.25),
            std::bit_cast<uint32_t>(0.5f),
            std::bit_cast<uint64_t>(8.0),
            1000,
            0};
    return (*Caller::make(jit, name, target()))->call(a);
  };
  EXPECT_EQ(call(**lazy, "post28"), call(**eager, "post28"));
  size_t few = (*lazy)->lowered().functions.size();
  EXPECT_GE(few, 2u);
  EXPECT_LE(few, 6u);  // with helpers for wide division
  EXPECT_EQ(call(**lazy, "post0"), call(**eager, "post0"));
  EXPECT_EQ((*lazy)->lowered().functions.size(), (*eager)->lowered().functions.size());
  // A child compiles for itself; what it learns is lost with it.
  auto fresh = Jit::compile(*module, target(), {}, usual_externals, {.lazy = true});
  Words a(13, 1);
  EXPECT_EQ((*Caller::make(**fresh, "post3", target()))->call_apart(a).results,
            (*Caller::make(**eager, "post3", target()))->call_apart(a).results);
  EXPECT_EQ((*fresh)->lowered().functions.size(), 0u);
}

TEST(Jit, LazyProgramsOfTheWholeLanguage) {
  for (uint64_t seed = 1; seed <= 40; ++seed) {
    Realm realm;
    Sample program = make_sample(realm, {.seed = seed, .layout = MemoryLayout{}});
    std::vector<uint8_t> pieces[2];
    std::string ends[2];
    for (bool lazy : {false, true}) {
      auto jit = Jit::compile(*program.module, target(), {}, usual_externals, {.lazy = lazy});
      ASSERT_TRUE(jit.good()) << render(jit.why());
      SharedMemory piece(Sample::piece_bytes);
      auto initial = Sample::fresh_piece();
      std::copy(initial.begin(), initial.end(), piece.bytes().begin());
      std::vector<uint64_t> arguments{reinterpret_cast<uint64_t>(piece.bytes().data())};
      arguments.insert(arguments.end(), program.arguments.begin(), program.arguments.end());
      NativeOutcome run = (*Caller::make(**jit, program.module->symbol_name(program.main), target()))
                              ->call_apart(arguments, 20);
      ends[lazy] = fmt::format("{} {}", int(run.end), fmt::join(run.results, " "));
      pieces[lazy].assign(piece.bytes().begin(), piece.bytes().end());
    }
    EXPECT_EQ(ends[0], ends[1]) << seed;
    EXPECT_EQ(pieces[0], pieces[1]) << seed;
  }
}

TEST(Apart, TellsWhereARunEndedBadly) {
  Realm realm;
  auto module = must_read(realm, R"(module m
source 1 "night.fml"
func stop() {
a:
  trap @1:3:1
}
func wild() -> i32 {
a:
  v = load i32 [null + 8] @1:7:5
  return v
}
func ever() {
a:
  go b
b:
  go b @1:12:1
}
func deep(n: i64) -> i64 {
a:
  m = add n, 1
  r = call deep(m) @1:16:3
  s = add r, m
  return s
}
func ratio(a: i32, b: i32) -> i32 {
a:
  q = div.s a, b @1:21:9
  return q
}
)");
  for (bool lazy : {false, true}) {
    auto jit = Jit::compile(*module, target(), {}, usual_externals, {.lazy = lazy});
    auto run = [&](const char* name, std::vector<uint64_t> arguments = {}, double seconds = 20) {
      return (*Caller::make(**jit, name, target()))->call_apart(arguments, seconds);
    };
    using End = NativeOutcome::End;
    EXPECT_EQ(run("stop").end, End::Trap);
    EXPECT_EQ(run("wild").end, End::Fault);
    EXPECT_EQ(run("ever", {}, 0.4).end, End::TooLong);
    EXPECT_EQ(run("deep", {0}).end, End::Fault);
    EXPECT_EQ(run("ratio", {1, 0}).end, End::Trap);
    if (lazy) continue;
    EXPECT_NE(run("stop").message.find("in 'stop' at night.fml:3:1"), std::string::npos)
        << run("stop").message;
    EXPECT_NE(run("wild").message.find("in 'wild' at night.fml:7:5: v = load i32 [null + 8]"),
              std::string::npos)
        << run("wild").message;
    EXPECT_NE(run("ever", {}, 0.4).message.find("in 'ever' at night.fml:12:1"), std::string::npos)
        << run("ever", {}, 0.4).message;
    EXPECT_NE(run("deep", {0}).message.find("in 'deep'"), std::string::npos) << run("deep", {0}).message;
    EXPECT_NE(run("ratio", {1, 0}).message.find("a division traps, in 'ratio' at night.fml:21:9"),
              std::string::npos)
        << run("ratio", {1, 0}).message;
  }
}

// The system's debugger and the map for its profiler, on a run in the tool's own process.
TEST(Jit, DebuggersAndProfilersKnowTheCode) {
  std::string call = fmt::format(
      "run {}/demo/frostwatch.por chill file:{}/demo/night.txt:f32:2 96 2.5 10.0 -O1 --on native --here",
      PORPHYRY_ROOT, PORPHYRY_ROOT);
  testing::Ran session = testing::run_command(
      fmt::format("gdb -nx -batch -ex 'set breakpoint pending on' -ex 'set debuginfod enabled off' -ex "
                  "'break chill' -ex run -ex bt -ex step -ex 'info source' -ex 'python import os; f = "
                  "\"/tmp/perf-%d.map\" % gdb.selected_inferior().pid; print(open(f).read()); os.remove(f)' "
                  "-ex continue --args {} {} 2>&1",
                  PORPHYRY_TOOL, call));
  EXPECT_NE(session.out.find("base=2.5, minutes=10) at ./frost.fml:"), std::string::npos) << session.out;
  EXPECT_NE(session.out.find("#0  chill (temps=0x"), std::string::npos) << session.out;
  EXPECT_NE(session.out.find(" in enter ()"), std::string::npos) << session.out;
  EXPECT_NE(session.out.find("main ("), std::string::npos)
      << session.out;  // the trace goes on through our frame
  EXPECT_NE(session.out.find("1905.7"), std::string::npos) << session.out;
  EXPECT_NE(session.out.find(" chill\n"), std::string::npos) << session.out;
}

// Anybody can put something under the map's name before the process is there.
TEST(Jit, TheProfilersMapIsNotWrittenThroughALink) {
  testing::TemporaryFolder folder;
  for (const char* link : {"ln -s", "ln"}) {
    std::string other = folder.write("other", "not a map\n");
    testing::Ran ran = testing::run_command(
        fmt::format("sh -c 'echo $$; {} {} /tmp/perf-$$.map && exec {} run {}/demo/frostwatch.por chill "
                    "file:{}/demo/night.txt:f32:2 96 2.5 10.0 --on native --here' 2>&1",
                    link, other, PORPHYRY_TOOL, PORPHYRY_ROOT, PORPHYRY_ROOT));
    unlink(fmt::format("/tmp/perf-{}.map", std::stoi(ran.out)).c_str());
    EXPECT_NE(ran.out.find("1905.7"), std::string::npos) << ran.out;
    EXPECT_EQ(testing::contents(other), "not a map\n");
  }
}

}  // namespace
}  // namespace porphyry
