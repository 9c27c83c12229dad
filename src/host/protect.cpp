#include "protect.h"

#include <sys/time.h>

#include <cmath>
#include <csetjmp>
#include <csignal>
#include <memory>
#include <mutex>

namespace porphyry::wasm {
namespace {

// What runs on this thread now, the innermost first.
struct Run {
  sigjmp_buf back;
  const machine::Target* target;
  std::span<const MemoryRegion> code;
  Stop stop;
  Run* outer;
};
thread_local Run* running = nullptr;

constexpr int signals[] = {SIGILL, SIGFPE, SIGSEGV, SIGBUS, SIGTRAP, SIGALRM};
struct sigaction before[std::size(signals)];

// The handler runs on a stack of its own, since the run's may be exhausted.
struct HandlerStack {
  static constexpr size_t bytes = 64 << 10;
  std::unique_ptr<char[]> memory{new char[bytes]};
  stack_t old{};
  HandlerStack() {
    stack_t own{.ss_sp = memory.get(), .ss_flags = 0, .ss_size = bytes};
    sigaltstack(&own, &old);
  }
  ~HandlerStack() { sigaltstack(&old, nullptr); }
};

bool is_in(std::span<const MemoryRegion> code, uint64_t at) {
  for (const MemoryRegion& r : code) {
    uint64_t start = reinterpret_cast<uint64_t>(r.memory);
    if (r.executable && at >= start && at - start < r.bytes) return true;
  }
  return false;
}

void pass_on(int number, siginfo_t* info, void* context) {
  for (size_t k = 0; k < std::size(signals); ++k) {
    if (signals[k] != number) continue;
    if (before[k].sa_flags & SA_SIGINFO) return before[k].sa_sigaction(number, info, context);
    if (before[k].sa_handler == SIG_IGN) return;
    if (before[k].sa_handler != SIG_DFL) return before[k].sa_handler(number);
  }
  signal(number, SIG_DFL);
  raise(number);
}

void handle(int number, siginfo_t* info, void* context) {
  Run* run = running;
  uint64_t at = run ? run->target->program_counter(context) : 0;
  if (!run || (number != SIGALRM && !is_in(run->code, at))) return pass_on(number, info, context);
  run->stop = {number, at, reinterpret_cast<uint64_t>(info->si_addr), 0};
  running = run->outer;
  siglongjmp(run->back, 1);
}

void install() {
  static std::once_flag once;
  std::call_once(once, [] {
    struct sigaction action {};
    action.sa_sigaction = handle;
    action.sa_flags = SA_SIGINFO | SA_ONSTACK | SA_NODEFER;
    for (size_t k = 0; k < std::size(signals); ++k) sigaction(signals[k], &action, &before[k]);
  });
  thread_local HandlerStack stack;
}

void set_timer(double seconds) {
  seconds = std::min(seconds, 1e9);
  itimerval timer{};
  timer.it_value.tv_sec = static_cast<time_t>(seconds);
  timer.it_value.tv_usec = static_cast<suseconds_t>((seconds - std::floor(seconds)) * 1e6) + (seconds > 0);
  setitimer(ITIMER_REAL, &timer, nullptr);
}

}  // namespace

Stop run_protected(const machine::Target& target, std::span<const MemoryRegion> code, double limit,
                   void (*run)(void*), void* what) {
  install();
  Run here;
  here.target = &target, here.code = code, here.outer = running;
  if (sigsetjmp(here.back, 0)) {
    if (limit > 0) set_timer(0);
    return here.stop;
  }
  running = &here;
  if (limit > 0) set_timer(limit);
  run(what);
  running = here.outer;
  if (limit > 0) set_timer(0);
  return {};
}

}  // namespace porphyry::wasm
