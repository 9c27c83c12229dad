// Idea: a child runs the rounds and leaves its figures in memory that both see, so that they are there up to
// the moment at which something ended it. The first runs of each contender say how many calls make a round of
// some microseconds, which is the same number for all of them. Cycles come from the system's counter where it
// lets us.
#include "porphyry/measure/timing.h"

#include <fmt/format.h>
#include <linux/perf_event.h>
#include <sys/mman.h>
#include <sys/prctl.h>
#include <sys/syscall.h>
#include <sys/wait.h>
#include <unistd.h>

#include <algorithm>
#include <chrono>
#include <csignal>
#include <new>
#include <optional>
#include <thread>

namespace porphyry {
namespace {

using Clock = std::chrono::steady_clock;

constexpr double round_nanoseconds = 20'000;  // at least, so that the clock's own steps do not count
constexpr unsigned most_calls = 100'000;

struct Sample {
  double nanoseconds, cycles;  // of a round
};
// What both processes see. Samples follow, `rounds` for each contender.
struct Board {
  uint32_t running;  // contender
  uint32_t rounds_done;
  uint32_t calls;
};

class CycleCounter {
 public:
  CycleCounter() {
    perf_event_attr what{};
    what.type = PERF_TYPE_HARDWARE;
    what.size = sizeof what;
    what.config = PERF_COUNT_HW_CPU_CYCLES;
    what.exclude_kernel = what.exclude_hv = 1;
    file_ = static_cast<int>(syscall(SYS_perf_event_open, &what, 0, -1, -1, 0));
  }
  ~CycleCounter() {
    if (file_ >= 0) close(file_);
  }
  CycleCounter(const CycleCounter&) = delete;
  uint64_t now() const {
    uint64_t n = 0;
    return file_ >= 0 && read(file_, &n, sizeof n) == sizeof n ? n : 0;
  }

 private:
  int file_;
};

Sample one_round(const Contender& c, unsigned calls, const CycleCounter& counter) {
  if (c.prepare) c.prepare();
  const uint64_t cycles = counter.now();
  const auto start = Clock::now();
  for (unsigned k = 0; k < calls; ++k) c.run();
  const std::chrono::duration<double, std::nano> took = Clock::now() - start;
  return {took.count(), static_cast<double>(counter.now() - cycles)};
}

// How many calls a round has: what the fastest contender needs for a round worth timing.
unsigned calls_for(const std::vector<Contender>& all, Board& board, const CycleCounter& counter,
                   double& nanoseconds) {
  double fastest = 1e18;
  nanoseconds = 0;
  for (size_t k = 0; k < all.size(); ++k) {
    board.running = static_cast<uint32_t>(k);
    double best = 1e18;
    for (int again = 0; again < 3; ++again) best = std::min(best, one_round(all[k], 1, counter).nanoseconds);
    fastest = std::min(fastest, best);
    nanoseconds += best;
  }
  return std::clamp(static_cast<unsigned>(round_nanoseconds / std::max(fastest, 1.0)), 1u, most_calls);
}

void run_rounds(const std::vector<Contender>& all, const TimingOptions& options, Board& board,
                Sample* samples) {
  const CycleCounter counter;
  double nanoseconds = 0;
  board.calls = calls_for(all, board, counter, nanoseconds);
  const double a_round = nanoseconds * board.calls / 1e9;
  const unsigned rounds = std::clamp(static_cast<unsigned>(options.seconds / std::max(a_round, 1e-9)),
                                     std::min(3u, options.rounds), options.rounds);
  for (unsigned r = 0; r < rounds; ++r) {
    for (size_t k = 0; k < all.size(); ++k) {
      board.running = static_cast<uint32_t>(k);
      samples[k * options.rounds + r] = one_round(all[k], board.calls, counter);
    }
    board.rounds_done = r + 1;
  }
}

double at_share(const std::vector<double>& sorted, double share) {
  return sorted[static_cast<size_t>(share * static_cast<double>(sorted.size() - 1) + 0.5)];
}

Timing figures(const Sample* samples, unsigned rounds, unsigned calls) {
  std::vector<double> times, cycles;
  for (unsigned r = 0; r < rounds; ++r) {
    times.push_back(samples[r].nanoseconds / calls);
    cycles.push_back(samples[r].cycles / calls);
  }
  std::sort(times.begin(), times.end());
  std::sort(cycles.begin(), cycles.end());
  return {.median = at_share(times, 0.5),
          .spread = (at_share(times, 0.75) - at_share(times, 0.25)) / 2,
          .least = times[0],
          .cycles = at_share(cycles, 0.5),
          .rounds = rounds,
          .calls = calls};
}

// Waits, up to the limit; how the child ended, or nothing when it had to be ended.
std::optional<int> wait_for(pid_t child, double seconds) {
  const auto end = Clock::now() + std::chrono::duration<double>(seconds);
  for (int status = 0;; std::this_thread::sleep_for(std::chrono::milliseconds(1))) {
    if (waitpid(child, &status, WNOHANG) == child) return status;
    if (Clock::now() > end) break;
  }
  kill(child, SIGKILL);
  waitpid(child, nullptr, 0);
  return std::nullopt;
}

}  // namespace

std::vector<Timing> time_in_turn(const std::vector<Contender>& contenders, const TimingOptions& options) {
  std::vector<Timing> out(contenders.size());
  if (contenders.empty()) return out;
  static_assert(sizeof(Board) <= sizeof(Sample));  // the board lies where a sample would
  const size_t bytes = sizeof(Sample) * (1 + contenders.size() * options.rounds);
  void* shared = mmap(nullptr, bytes, PROT_READ | PROT_WRITE, MAP_SHARED | MAP_ANONYMOUS, -1, 0);
  if (shared == MAP_FAILED) throw std::bad_alloc();
  Board& board = *new (shared) Board{};
  auto* samples = reinterpret_cast<Sample*>(static_cast<char*>(shared) + sizeof(Sample));
  const pid_t parent = getpid(), child = fork();
  if (child == 0) {
    prctl(PR_SET_PDEATHSIG, SIGKILL);
    if (getppid() != parent) _exit(1);
    run_rounds(contenders, options, board, samples);
    _exit(0);
  }
  const auto status = child < 0 ? std::optional<int>(1) : wait_for(child, options.time_limit);
  const bool whole = status && WIFEXITED(*status) && WEXITSTATUS(*status) == 0;
  std::string why = child < 0              ? "no child process can be made"
                    : !status              ? fmt::format("the rounds took more than {} s", options.time_limit)
                    : WIFSIGNALED(*status) ? fmt::format("the run was ended by signal {}", WTERMSIG(*status))
                                           : "the run ended its process";
  for (size_t k = 0; k < contenders.size(); ++k) {
    if (board.rounds_done >= std::min(3u, options.rounds) && board.calls)
      out[k] = figures(samples + k * options.rounds, board.rounds_done, board.calls);
    else if (!whole)
      out[k].failed = k == board.running
                          ? why
                          : fmt::format("'{}' ended the measurement", contenders[board.running].name);
  }
  munmap(shared, bytes);
  return out;
}

}  // namespace porphyry
