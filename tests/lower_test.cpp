// Lowering as a whole: one that takes a module over gives what one that copies gives, and what it takes of
// memory.
#include <fmt/format.h>
#include <gtest/gtest.h>
#include <sys/wait.h>
#include <unistd.h>

#include <fstream>

#include "porphyry/ir/clone.h"
#include "porphyry/machine/lower.h"
#include "porphyry/object/object.h"
#include "porphyry/render/listing.h"
#include "porphyry/sample/sample.h"
#include "porphyry/targets/x64.h"
#include "support/measure.h"
#include "support/read.h"

namespace porphyry {
namespace {

using machine::LowerOptions;

const machine::Target& target() { return targets::x64(); }

TEST(Lower, TakingAModuleOverGivesWhatACopyGives) {
  for (uint64_t seed = 1; seed <= testing::part_of(60); ++seed) {
    Realm realm;
    Sample program = make_sample(realm, {.seed = seed, .native_layout = true});
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
        EXPECT_EQ(is->meant, kept->meant);
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

}  // namespace
}  // namespace porphyry
