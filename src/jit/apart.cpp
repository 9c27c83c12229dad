#include "porphyry/jit/apart.h"

#include <fmt/format.h>
#include <sys/mman.h>
#include <sys/prctl.h>
#include <sys/resource.h>
#include <sys/time.h>
#include <sys/wait.h>
#include <unistd.h>

#include <chrono>
#include <cmath>
#include <csetjmp>
#include <csignal>
#include <cstring>
#include <new>

#include "porphyry/ir/compute.h"
#include "porphyry/ir/pen.h"
#include "porphyry/print/print.h"

namespace porphyry {

SharedMemory::SharedMemory(size_t bytes) : bytes_(bytes) {
  void* got =
      mmap(nullptr, std::max<size_t>(bytes, 1), PROT_READ | PROT_WRITE, MAP_SHARED | MAP_ANONYMOUS, -1, 0);
  if (got == MAP_FAILED) throw std::bad_alloc();
  memory_ = static_cast<uint8_t*>(got);
}

SharedMemory::~SharedMemory() { munmap(memory_, std::max<size_t>(bytes_, 1)); }

ReachableMemory::ReachableMemory(size_t bytes, const machine::Target& target) : bytes_(bytes) {
  int flags = MAP_PRIVATE | MAP_ANONYMOUS | (target.layout.pointer_bits < 64 ? MAP_32BIT : 0);
  void* got = mmap(nullptr, std::max<size_t>(bytes, 1), PROT_READ | PROT_WRITE, flags, -1, 0);
  if (got == MAP_FAILED) throw std::bad_alloc();
  memory_ = static_cast<uint8_t*>(got);
}

ReachableMemory::~ReachableMemory() { munmap(memory_, std::max<size_t>(bytes_, 1)); }

namespace {

// Reads and writes values one behind the other in a frame of words, as constants have them.
class FrameWords {
 public:
  FrameWords(Pen& pen, Value frame) : pen_(pen), frame_(frame) {}

  Value take(Type t) {
    Value v = next(t);
    if (!t.has_lanes()) return v;
    v = pen_.convert(Op::Splat, t, v);
    for (unsigned k = 1; k < t.lanes(); ++k) {
      Value operands[] = {v, pen_.integer(Type::integer(64), k), next(t)};
      v = pen_.function().result(pen_.put({.op = Op::Put, .operands = operands, .results = {&t, 1}}));
    }
    return v;
  }
  void leave(Value v) {
    Type t = pen_.function().type(v), element = t.element();
    for (unsigned k = 0; k < t.lanes(); ++k, at_ += 8 * t.words_per_lane()) {
      Value operands[] = {v, pen_.integer(Type::integer(64), k)};
      Value x = !t.has_lanes() ? v
                               : pen_.function().result(pen_.put(
                                     {.op = Op::Lane, .operands = operands, .results = {&element, 1}}));
      pen_.store(x, frame_, {}, 1, at_);
    }
  }

 private:
  Value next(Type t) {
    Value v = pen_.load(t.element(), frame_, {}, 1, at_);
    at_ += 8 * t.words_per_lane();
    return v;
  }

  Pen& pen_;
  Value frame_;
  int64_t at_ = 0;
};

size_t words_of(const std::vector<Type>& types) {
  size_t n = 0;
  for (Type t : types) n += t.words();
  return n;
}

}  // namespace

Result<Bridge> make_bridge(const Jit& jit, std::string_view function, const machine::Target& target) {
  const Module& module = *jit.lowered().legal;
  Symbol s = module.find(function);
  if (!s.exists() || !module.is_function(s))
    return complaint(fmt::format("no function with a body is called '{}'", function),
                     "a function of the module");
  return make_bridge(jit.lowered().source_signatures[s.index], jit.address(function), module.layout, target,
                     {.simulated = jit.options().simulated,
                      .for_debugger = jit.options().for_debugger});  // so that traces go through it
}

Result<Bridge> make_bridge(const Signature& signature, void* address, const MemoryLayout& layout,
                           const machine::Target& target, const JitOptions& how) {
  Bridge out;
  out.signature = signature;
  out.argument_words = words_of(out.signature.parameters);
  out.result_words = words_of(out.signature.results);
  out.realm = std::make_unique<Realm>();
  Module bridge(*out.realm, "bridge");
  bridge.layout = layout;
  Symbol callee = bridge.add_extern_function("callee", out.signature);
  Symbol enter = bridge.add_function("enter", {{bridge.pointer_type()}, {}});
  Pen pen(bridge, bridge.function(enter));
  pen.at_end(bridge.function(enter).add_block());
  FrameWords words(pen, bridge.function(enter).parameters()[0]);
  std::vector<Value> arguments;
  for (Type t : out.signature.parameters) arguments.push_back(words.take(t));
  for (Value v : pen.call(callee, arguments)) words.leave(v);
  pen.return_values({});
  auto compiled = Jit::compile(
      bridge, target, {}, [&](std::string_view) { return address; }, how);
  if (!compiled) return compiled.why();
  out.code = std::move(*compiled);
  return out;
}

void Bridge::put_arguments(std::span<const uint64_t> words, uint64_t* frame) const {
  const ByteOrder order = code->lowered().legal->layout.order;
  size_t at = 0;
  for (Type t : signature.parameters)
    for (unsigned lane = 0; lane < t.lanes() && at < words.size(); ++lane, at += t.words_per_lane())
      put_value(t.element(), words.subspan(at), order, reinterpret_cast<uint8_t*>(frame + at));
}

std::vector<uint64_t> Bridge::results(const uint64_t* frame) const {
  const ByteOrder order = code->lowered().legal->layout.order;
  std::vector<uint64_t> out(result_words);
  size_t at = 0;
  for (Type t : signature.results)
    for (unsigned lane = 0; lane < t.lanes(); ++lane, at += t.words_per_lane())
      get_value(t.element(), reinterpret_cast<const uint8_t*>(frame + argument_words + at), order,
                std::span(out).subspan(at));
  return out;
}

Result<std::unique_ptr<Caller>> Caller::make(const Jit& jit, std::string_view function,
                                             const machine::Target& target) {
  auto bridge = make_bridge(jit, function, target);
  if (!bridge) return bridge.why();
  std::unique_ptr<Caller> out(new Caller(jit, target));
  out->bridge_ = std::move(*bridge);
  out->enter_ = reinterpret_cast<void (*)(uint64_t*)>(out->bridge_.code->address("enter"));
  return out;
}

std::vector<uint64_t> Caller::call(std::span<const uint64_t> arguments) const {
  std::vector<uint64_t> frame(bridge_.argument_words + bridge_.result_words);
  bridge_.put_arguments(arguments, frame.data());
  enter_(frame.data());
  return bridge_.results(frame.data());
}

// Compiled code holds no lock and is in no routine of the host, so that all may be asked for from a signal's
// handler there.
std::string place_text(const Jit& jit, uint64_t at) {
  bool inside = false;
  for (const MemoryRegion& r : jit.regions()) {
    uint64_t start = reinterpret_cast<uint64_t>(r.memory);
    inside |= r.executable && at >= start && at - start < r.bytes;
  }
  auto place = inside ? jit.locate(at) : std::nullopt;
  if (!place) return ", in code of the host";
  std::string out = fmt::format(", in '{}'", place->function);
  if (!place->position.empty()) out += " at " + place->position;
  if (!place->operation.empty()) out += ": " + place->operation;
  return out;
}

namespace {

constexpr size_t place_room = 4096;  // bytes for where a run stood, ended by a zero

void ended_by(NativeOutcome& out, int signal, double limit) {
  out.end = NativeOutcome::End::Fault;
  if (signal == SIGILL || signal == SIGFPE || signal == SIGTRAP) {
    out.end = NativeOutcome::End::Trap;
    out.message = signal == SIGFPE ? "a division traps" : "'trap' was reached";
  } else if (signal == SIGALRM || signal == SIGXCPU) {
    out.end = NativeOutcome::End::TooLong;
    out.message = fmt::format("the run took more than {} second{}", limit, limit == 1 ? "" : "s");
  } else if (signal == SIGSEGV || signal == SIGBUS) {
    out.message = "an access outside of all memory, or the stack is exhausted";
  } else {
    out.message = fmt::format("the run was ended from outside, by signal {}", signal);
  }
}

// What the handler of signals needs, which is given nothing else: one run at a time in a process has one.
struct Witness {
  const Jit* jit = nullptr;
  const machine::Target* target = nullptr;
  char* place = nullptr;            // of place_room
  sigjmp_buf* return_to = nullptr;  // where the run goes on; else it ends as the signal has it
};
Witness& witness() {
  static Witness it;
  return it;
}

// Writes down where the run stood.
void note_place(int number, siginfo_t*, void* context) {
  Witness& w = witness();
  std::string text = place_text(*w.jit, w.target->program_counter(context));
  size_t size = std::min(text.size(), place_room - 1);
  std::memcpy(w.place, text.data(), size);
  w.place[size] = 0;
  if (w.return_to) siglongjmp(*w.return_to, number);
  signal(number, SIG_DFL);
  raise(number);
}

constexpr int signals_of_runs[] = {SIGILL, SIGFPE, SIGSEGV, SIGBUS, SIGTRAP, SIGALRM};

// From here on, until it goes. The handler has a stack of its own, since the run's may be exhausted.
class Watch {
 public:
  Watch(const Witness& w, double limit) : stack_(256 << 10) {
    witness() = w;
    stack_t other{.ss_sp = stack_.data(), .ss_flags = 0, .ss_size = stack_.size()};
    sigaltstack(&other, &old_stack_);
    struct sigaction action {};
    action.sa_sigaction = note_place;
    action.sa_flags = SA_SIGINFO | SA_ONSTACK | SA_NODEFER;
    for (size_t k = 0; k < std::size(signals_of_runs); ++k) sigaction(signals_of_runs[k], &action, &old_[k]);
    limit = std::min(limit, 1e9);
    itimerval timer{};
    timer.it_value.tv_sec = static_cast<time_t>(limit);
    timer.it_value.tv_usec = static_cast<suseconds_t>((limit - std::floor(limit)) * 1e6) + 1;
    setitimer(ITIMER_REAL, &timer, nullptr);
  }
  ~Watch() {
    itimerval none{};
    setitimer(ITIMER_REAL, &none, nullptr);
    for (size_t k = 0; k < std::size(signals_of_runs); ++k) sigaction(signals_of_runs[k], &old_[k], nullptr);
    sigaltstack(&old_stack_, nullptr);
    witness() = {};
  }

 private:
  std::vector<char> stack_;
  stack_t old_stack_{};
  struct sigaction old_[std::size(signals_of_runs)]{};
};

}  // namespace

NativeOutcome Caller::call_here(std::span<const uint64_t> arguments, double limit) const {
  NativeOutcome out;
  std::vector<uint64_t> frame(arguments.begin(), arguments.end());
  frame.resize(bridge_.argument_words + bridge_.result_words);
  std::vector<char> place(place_room);
  sigjmp_buf back;
  Watch watch({&jit_, &target_, place.data(), &back}, limit);
  auto start = std::chrono::steady_clock::now();
  if (int signal = sigsetjmp(back, 1)) {
    ended_by(out, signal, limit);
    out.message += place.data();
    return out;
  }
  enter_(frame.data());
  out.seconds = std::chrono::duration<double>(std::chrono::steady_clock::now() - start).count();
  out.results = bridge_.results(frame.data());
  return out;
}

NativeOutcome Caller::call_apart(std::span<const uint64_t> arguments, double limit, unsigned repeats) const {
  size_t words = bridge_.argument_words + bridge_.result_words;
  SharedMemory shared((words + 2) * 8 + place_room);
  uint64_t* frame = reinterpret_cast<uint64_t*>(shared.bytes().data());
  char* place = reinterpret_cast<char*>(frame + words + 2);
  std::copy(arguments.begin(), arguments.end(), frame);
  NativeOutcome out;
  pid_t parent = getpid(), child = fork();
  if (child < 0) {
    out.end = NativeOutcome::End::Fault;
    out.message = "no child process can be made";
    return out;
  }
  if (child == 0) {
    prctl(PR_SET_PDEATHSIG, SIGKILL);  // it ends with its parent, which may have gone by now
    if (getppid() != parent) _exit(1);
    rlimit no_core{0, 0};
    setrlimit(RLIMIT_CORE, &no_core);
    Watch watch({&jit_, &target_, place, nullptr}, limit);
    auto start = std::chrono::steady_clock::now();
    for (unsigned k = 0; k < repeats; ++k) enter_(frame);
    std::chrono::duration<double> took = std::chrono::steady_clock::now() - start;
    double seconds = took.count();
    std::memcpy(frame + words, &seconds, 8);
    frame[words + 1] = 1;
    _exit(0);
  }
  int status = 0;
  while (waitpid(child, &status, 0) < 0 && errno == EINTR) {
  }
  if (WIFEXITED(status) && WEXITSTATUS(status) == 0 && frame[words + 1] == 1) {
    out.results = bridge_.results(frame);
    std::memcpy(&out.seconds, frame + words, 8);
  } else if (WIFSIGNALED(status)) {
    ended_by(out, WTERMSIG(status), limit);
    out.message += place;
  } else {
    out.end = NativeOutcome::End::Fault;
    out.message = fmt::format("the run ended the process with status {}", WEXITSTATUS(status));
  }
  return out;
}

}  // namespace porphyry
