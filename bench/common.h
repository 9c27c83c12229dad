// What the benches share: clocks, and the program that is generated in any size.
#pragma once

#include <algorithm>
#include <chrono>
#include <functional>
#include <string>
#include <vector>

namespace porphyry::bench {

inline double seconds_of(const std::function<void()>& work) {
  auto start = std::chrono::steady_clock::now();
  work();
  return std::chrono::duration<double>(std::chrono::steady_clock::now() - start).count();
}

// The least time of one run among many: what the machine does when nothing disturbs it.
inline double least_seconds(const std::function<void()>& work, double budget = 0.25) {
  // The first run meets fresh pages, which later ones do not.
  double once = std::max(seconds_of(work), 1e-9), best = std::min(once, seconds_of(work)),
         spent = once + best;
  size_t inner = std::max<size_t>(1, static_cast<size_t>(0.002 / once));
  while (spent < budget) {
    double t = seconds_of([&] {
      for (size_t k = 0; k < inner; ++k) work();
    });
    spent += t;
    best = std::min(best, t / static_cast<double>(inner));
  }
  return best;
}

// The least time of making something, at least twice; giving it back does not count.
template <class Make>
double least_seconds_to_make(const Make& make, double budget = 0.25) {
  double best = 1e9, spent = 0;
  for (int round = 0; round < 2 || spent < budget; ++round) {
    auto start = std::chrono::steady_clock::now();
    auto made = make();
    double t = std::chrono::duration<double>(std::chrono::steady_clock::now() - start).count();
    spent += t;
    best = std::min(best, t);
  }
  return best;
}

struct Spread {
  double least, middle, most;
};
inline Spread spread_of(std::vector<double> turns) {
  std::sort(turns.begin(), turns.end());
  return {turns.front(), turns[turns.size() / 2], turns.back()};
}

// `count` functions, each of so many loops in a row with a multiply, a remainder, shifts and a branch.
std::string generated_text(size_t count, size_t loops);
constexpr size_t instructions_of(size_t loops) { return 14 * loops + 2; }

// What the language itself costs: building, reading, packing, copying, verifying, evaluating; from 1,000 to
// `most` instructions.
void language_costs(size_t most);

// What compiling costs: text to object, by stage, against the host compiler in `folder`, and how it grows.
void compile_costs(const std::string& folder);

// Bytes of the demo kernels, beside the host compiler's in `folder`.
void kernel_sizes(const std::string& folder);

// What modules of WebAssembly cost that others made: see scripts/corpus.
void webassembly_costs();

}  // namespace porphyry::bench
