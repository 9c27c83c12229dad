// Jobs on all cores.
#pragma once

#include <algorithm>
#include <atomic>
#include <thread>
#include <vector>

namespace porphyry {

// Calls `job(k)` for each number below the count, each once, several at a time, in this thread too; 0 threads:
// one for each core. Jobs must not throw, and share nothing that one of them changes.
template <class Job>
void on_all_cores(size_t count, const Job& job, unsigned threads = 0) {
  if (threads == 0) threads = std::max(1u, std::thread::hardware_concurrency());
  std::atomic<size_t> next = 0;
  auto work = [&] {
    for (size_t k; (k = next++) < count;) job(k);
  };
  std::vector<std::jthread> others;
  for (size_t k = 1; k < std::min<size_t>(count, threads); ++k) others.emplace_back(work);
  work();
}

}  // namespace porphyry
