#include "protect.h"

#include <pthread.h>
#include <sys/time.h>

#include <atomic>
#include <cmath>
#include <csetjmp>
#include <csignal>
#include <memory>
#include <mutex>

namespace porphyry::wasm {

struct CodeRange {
  std::atomic<const NativeCode*> owner = nullptr;
  std::atomic<uint64_t> start = 0, end = 0;
  CodeRange* next = nullptr;
};

namespace {

// What runs on this thread now, the innermost first.
struct Run {
  sigjmp_buf back;
  const machine::Target* target;
  Stop stop;
  Run* outer;
};
thread_local Run* running = nullptr;

constexpr int signals[] = {SIGILL, SIGFPE, SIGSEGV, SIGBUS, SIGTRAP, SIGALRM};
struct sigaction* handlers_before() {  // by signal
  static struct sigaction all[std::size(signals)];
  return all;
}

// The handler runs on a stack of its own, since the run's may be exhausted.
struct HandlerStack {
  static constexpr size_t bytes = 256 << 10;
  std::unique_ptr<char[]> memory{new char[bytes]};
  stack_t old{};
  HandlerStack() {
    stack_t own{.ss_sp = memory.get(), .ss_flags = 0, .ss_size = bytes};
    sigaltstack(&own, &old);
  }
  ~HandlerStack() { sigaltstack(&old, nullptr); }
};

// All ranges there ever were, so that a handler of signals may walk them without a lock; those that are free
// have no owner.
struct Ranges {
  std::atomic<CodeRange*> first = nullptr;
  std::mutex lock;
};
Ranges& ranges() {
  static Ranges all;
  return all;
}

void pass_on(int number, siginfo_t* info, void* context) {
  for (size_t k = 0; k < std::size(signals); ++k) {
    if (signals[k] != number) continue;
    if (handlers_before()[k].sa_flags & SA_SIGINFO)
      return handlers_before()[k].sa_sigaction(number, info, context);
    if (handlers_before()[k].sa_handler == SIG_IGN) return;
    if (handlers_before()[k].sa_handler != SIG_DFL) return handlers_before()[k].sa_handler(number);
  }
  signal(number, SIG_DFL);
  raise(number);
}

void handle(int number, siginfo_t* info, void* context) {
  Run* run = running;
  uint64_t at = run ? run->target->program_counter(context) : 0;
  if (!run || (number != SIGALRM && !owner_of(at))) return pass_on(number, info, context);
  run->stop = {number, at, reinterpret_cast<uint64_t>(info->si_addr)};
  running = run->outer;
  siglongjmp(run->back, 1);
}

void install() {
  static std::once_flag once;
  std::call_once(once, [] {
    struct sigaction action {};
    action.sa_sigaction = handle;
    action.sa_flags = SA_SIGINFO | SA_ONSTACK | SA_NODEFER;
    for (size_t k = 0; k < std::size(signals); ++k) sigaction(signals[k], &action, &handlers_before()[k]);
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

bool is_end_of_stack(uint64_t address) {
  pthread_attr_t attributes;
  if (pthread_getattr_np(pthread_self(), &attributes) != 0) return false;
  void* low = nullptr;
  size_t size = 0;
  pthread_attr_getstack(&attributes, &low, &size);
  pthread_attr_destroy(&attributes);
  constexpr uint64_t guard = 1 << 20, near = 64 << 10;
  uint64_t end = reinterpret_cast<uint64_t>(low);
  return address + guard >= end && address < end + near;
}

const NativeCode* owner_of(uint64_t at) {
  for (const CodeRange* r = ranges().first.load(std::memory_order_acquire); r; r = r->next)
    if (const NativeCode* owner = r->owner.load(std::memory_order_acquire);
        owner && at >= r->start.load(std::memory_order_relaxed) &&
        at < r->end.load(std::memory_order_relaxed))
      return owner;
  return nullptr;
}

ProtectedCode::ProtectedCode(const Jit& jit, const NativeCode& owner) {
  std::lock_guard guard(ranges().lock);
  for (const MemoryRegion& region : jit.regions()) {
    if (!region.executable) continue;
    CodeRange* r = ranges().first.load();
    while (r && r->owner.load()) r = r->next;
    bool fresh = !r;
    if (fresh) r = new CodeRange;
    r->start = reinterpret_cast<uint64_t>(region.memory);
    r->end = r->start + region.bytes;
    r->owner.store(&owner, std::memory_order_release);
    if (fresh) r->next = ranges().first.load(), ranges().first.store(r, std::memory_order_release);
    ranges_.push_back(r);
  }
}

ProtectedCode::~ProtectedCode() {
  for (CodeRange* r : ranges_) r->owner.store(nullptr, std::memory_order_release);
}

Stop run_protected(const machine::Target& target, double limit, void (*run)(void*), void* what) {
  install();
  Run here;
  here.target = &target, here.outer = running;
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
