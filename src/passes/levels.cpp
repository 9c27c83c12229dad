#include "porphyry/passes/passes.h"

namespace porphyry {
namespace {

// What every level from -O1 on does with a function: the first half gets values, memory and branches into
// their simplest form, the second one makes of them what is cheapest.
#define PORPHYRY_SIMPLIFY                                                                             \
  "split-slots; promote; fold; number; propagate; strengthen; checks; forward; sweep; thread; tidy; " \
  "flatten; divide; fold; "
// Loops and objects of which all is known beforehand become values, each as far as the others let it.
#define PORPHYRY_KNOWN                                          \
  "bulk; outcome; unroll; tidy; fold; "                         \
  "frame { until stable { split-slots; promote; fold; number; " \
  "propagate; forward; sweep; thread; tidy; bulk; outcome; unroll; frame } } "
// What is left of loops.
#define PORPHYRY_LOOPS "test-last; fold; number; propagate; sweep; tidy; number; hoist; step; sweep; tidy; "
#define PORPHYRY_CHEAPEST "join; regroup; scale; number; sweep; fold; "
// Behind what functions do by themselves: what they have checked for each other.
#define PORPHYRY_CONTRACTS                                                                     \
  "contracts { propagate; strengthen; checks; number; forward; sweep; thread; tidy; flatten; " \
  "fold; number; sweep; sink; tidy }"
#define PORPHYRY_FINISH PORPHYRY_CHEAPEST "sink; tidy; " PORPHYRY_CONTRACTS

constexpr Level levels[] = {
    {.name = "-O0", .passes = "", .improve_code = false, .spend_bytes = false, .doc = "runs no pass"},
    {.name = "-O1",
     .passes = PORPHYRY_SIMPLIFY PORPHYRY_FINISH,
     .improve_code = true,
     .spend_bytes = true,
     .doc = "each function for itself: values, memory, branches; bounds that they check for each other"},
    {.name = "-O2",
     .passes =
         "trim; tail; specialize; inline; " PORPHYRY_SIMPLIFY PORPHYRY_KNOWN PORPHYRY_LOOPS PORPHYRY_FINISH
         "; merge; trim; drop",
     .improve_code = true,
     .spend_bytes = true,
     .doc = "and calls and loops: small functions in place, recursion as loops, what stays before loops"},
    {.name = "-O3",
     .passes =
         "trim; tail; specialize; inline; " PORPHYRY_SIMPLIFY PORPHYRY_KNOWN PORPHYRY_LOOPS
         "unswitch; split-rounds; fold; tidy; unroll-by; fold; tidy; " PORPHYRY_FINISH "; merge; trim; drop",
     .improve_code = true,
     .spend_bytes = true,
     .doc = "and copies of loops: for either way of a branch that stays the same, several rounds in one"},
    {.name = "-Os",
     .passes = "small; trim; tail; inline; " PORPHYRY_SIMPLIFY "bulk; outcome; " PORPHYRY_CHEAPEST
               "split-tests; sink; tidy; meet; " PORPHYRY_CONTRACTS "; merge; trim; drop",
     .improve_code = true,
     .spend_bytes = false,
     .doc = "calls as well, but nothing that makes code larger"},
    {.name = "-Og",
     .passes =
         "mark-lines; split-slots; promote; fold; number; propagate; sweep; tidy; divide; fold; number; "
         "sweep; tidy",
     .improve_code = false,
     .spend_bytes = false,
     .observe = true,
     .doc = "for debuggers: what changes no line and no watched variable, and all of them can be observed"},
};

}  // namespace

Pipeline Level::pipeline() const { return *read_pipeline(passes, standard_passes()); }

std::span<const Level> all_levels() { return levels; }

Result<Level> level_named(std::string_view name) {
  std::vector<std::string> names;
  for (const Level& l : levels) {
    if (name == l.name || name == l.name.substr(1)) return l;
    names.emplace_back(l.name);
  }
  return complaint("no level is called '" + std::string(name) + "'", listed(names));
}

}  // namespace porphyry
