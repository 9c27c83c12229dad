#include "porphyry/jit/apart.h"

#include <fmt/format.h>
#include <sys/mman.h>
#include <sys/resource.h>
#include <sys/time.h>
#include <sys/wait.h>
#include <unistd.h>

#include <chrono>
#include <cmath>
#include <csignal>
#include <cstring>
#include <new>

#include "porphyry/ir/compute.h"
#include "porphyry/ir/pen.h"

namespace porphyry {

SharedMemory::SharedMemory(size_t bytes) : bytes_(bytes) {
  void* got =
      mmap(nullptr, std::max<size_t>(bytes, 1), PROT_READ | PROT_WRITE, MAP_SHARED | MAP_ANONYMOUS, -1, 0);
  if (got == MAP_FAILED) throw std::bad_alloc();
  memory_ = static_cast<uint8_t*>(got);
}

SharedMemory::~SharedMemory() { munmap(memory_, std::max<size_t>(bytes_, 1)); }

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
  Bridge out;
  out.signature = jit.lowered().meant[s.index];
  out.argument_words = words_of(out.signature.parameters);
  out.result_words = words_of(out.signature.results);
  out.realm = std::make_unique<Realm>();
  Module bridge(*out.realm, "bridge");
  Symbol callee = bridge.add_extern_function("callee", out.signature);
  Symbol enter = bridge.add_function("enter", {{Type::pointer()}, {}});
  Pen pen(bridge, bridge.function(enter));
  pen.at_end(bridge.function(enter).add_block());
  FrameWords words(pen, bridge.function(enter).parameters()[0]);
  std::vector<Value> arguments;
  for (Type t : out.signature.parameters) arguments.push_back(words.take(t));
  for (Value v : pen.call(callee, arguments)) words.leave(v);
  pen.give_back({});
  void* address = jit.address(function);
  JitOptions how{.for_debugger = jit.options().for_debugger};  // so that traces go through it
  auto compiled = Jit::compile(
      bridge, target, {}, [&](std::string_view) { return address; }, how);
  if (!compiled) return compiled.why();
  out.code = std::move(*compiled);
  return out;
}

std::vector<uint64_t> Bridge::results(const uint64_t* frame) const {
  std::vector<uint64_t> out;
  const uint64_t* words = frame + argument_words;
  for (Type t : signature.results)
    for (unsigned k = 0; k < t.words(); ++k) {
      bool high = t.words_per_lane() == 2 && k % 2 == 1;
      unsigned bits = high ? t.bits() - 64 : std::min(t.bits(), 64u);
      out.push_back(*words++ & static_cast<uint64_t>(mask_of(bits)));
    }
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
  std::vector<uint64_t> frame(arguments.begin(), arguments.end());
  frame.resize(bridge_.argument_words + bridge_.result_words);
  enter_(frame.data());
  return bridge_.results(frame.data());
}

namespace {

void set_outcome(NativeOutcome& out, int status, double limit) {
  int signal = WIFSIGNALED(status) ? WTERMSIG(status) : 0;
  if (signal == SIGILL || signal == SIGFPE || signal == SIGTRAP) {
    out.end = NativeOutcome::End::Trap;
    out.message = signal == SIGFPE ? "a division traps" : "trap";
  } else if (signal == SIGALRM || signal == SIGXCPU || signal == SIGKILL) {
    out.end = NativeOutcome::End::TooLong;
    out.message = fmt::format("the run took more than {} seconds", limit);
  } else {
    out.end = NativeOutcome::End::Fault;
    out.message = signal == SIGSEGV || signal == SIGBUS
                      ? "an access outside of all memory, or the stack is exhausted"
                      : fmt::format("the run ended with {} {}", signal ? "signal" : "status",
                                    signal ? signal : WEXITSTATUS(status));
  }
}

// In the child: what the handler of signals needs, which is given nothing else.
struct Witness {
  uint64_t* place = nullptr;
  const machine::Target* target = nullptr;
};
Witness& witness() {
  static Witness it;
  return it;
}

// Writes down where the run stood, then lets the signal do what it usually does.
void note_place(int number, siginfo_t*, void* context) {
  *witness().place = witness().target->program_counter(context);
  signal(number, SIG_DFL);
  raise(number);
}

// From here on. The handler has a stack of its own, since the run's may be exhausted.
void tell_where(uint64_t* place, const machine::Target& target) {
  witness() = {place, &target};
  static char stack[64 << 10];
  stack_t other{.ss_sp = stack, .ss_flags = 0, .ss_size = sizeof stack};
  sigaltstack(&other, nullptr);
  struct sigaction action {};
  action.sa_sigaction = note_place;
  action.sa_flags = SA_SIGINFO | SA_ONSTACK | SA_NODEFER;
  for (int s : {SIGILL, SIGFPE, SIGSEGV, SIGBUS, SIGTRAP, SIGALRM}) sigaction(s, &action, nullptr);
}

}  // namespace

NativeOutcome Caller::call_apart(std::span<const uint64_t> arguments, double limit, unsigned repeats) const {
  size_t words = bridge_.argument_words + bridge_.result_words;
  SharedMemory shared((words + 3) * 8);
  uint64_t* frame = reinterpret_cast<uint64_t*>(shared.bytes().data());
  std::copy(arguments.begin(), arguments.end(), frame);
  NativeOutcome out;
  pid_t child = fork();
  if (child < 0) {
    out.end = NativeOutcome::End::Fault;
    out.message = "no child process can be made";
    return out;
  }
  if (child == 0) {
    tell_where(frame + words + 2, target_);
    rlimit no_core{0, 0};
    setrlimit(RLIMIT_CORE, &no_core);
    itimerval timer{};
    limit = std::min(limit, 1e9);
    timer.it_value.tv_sec = static_cast<time_t>(limit);
    timer.it_value.tv_usec = static_cast<suseconds_t>((limit - std::floor(limit)) * 1e6) + 1;
    setitimer(ITIMER_REAL, &timer, nullptr);
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
  } else {
    set_outcome(out, status, limit);
    if (auto place = jit_.locate(frame[words + 2])) {
      out.message += fmt::format(", in '{}'", place->function);
      if (!place->position.empty()) out.message += " at " + place->position;
      if (!place->operation.empty()) out.message += ": " + place->operation;
    } else if (frame[words + 2]) {
      out.message += ", in code of the host";
    }
  }
  return out;
}

}  // namespace porphyry
