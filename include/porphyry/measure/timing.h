// How long things take, measured in turn: each round runs every contender once, so that what disturbs the
// machine disturbs all of them.
//
//   auto times = time_in_turn({{.name = "-O1", .run = …}, {.name = "-O2", .run = …}}, {});
//   fmt::format("{:.0f} ns ± {:.0f}", times[0].median, times[0].spread);
//
// The time of a contender is the median of its rounds, the spread half of the distance between their
// quartiles. Rounds of what takes less than some microseconds call it many times.
#pragma once

#include <functional>
#include <string>
#include <vector>

namespace porphyry {

struct Contender {
  std::string name;
  std::function<void()> prepare = {};  // before each round, not timed; may be empty
  std::function<void()> run = {};
};

struct TimingOptions {
  unsigned rounds = 31;
  double seconds = 2;      // about as long in all; fewer rounds where runs are long, three at least
  double time_limit = 20;  // then the child is ended
};

struct Timing {
  double median = 0, spread = 0, least = 0;  // nanoseconds a call
  double cycles = 0;               // of the processor, a call: the median; 0 where they cannot be counted
  unsigned rounds = 0, calls = 0;  // calls in each round
  std::string failed;              // why there are no figures; empty when there are
};

// In a child process: a contender that ends it is told by `failed`, and so are those that were not done by
// then. One for each contender, in their order.
std::vector<Timing> time_in_turn(const std::vector<Contender>& contenders, const TimingOptions& options = {});

}  // namespace porphyry
