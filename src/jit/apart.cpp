#include "porphyry/jit/apart.h"

#include <fmt/format.h>
#include <sys/mman.h>
#include <sys/resource.h>
#include <sys/wait.h>
#include <unistd.h>

#include <chrono>
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

Result<std::unique_ptr<Caller>> Caller::make(const Jit& jit, std::string_view function,
                                             const machine::Target& target) {
  const Module& module = *jit.lowered().legal;
  Symbol s = module.find(function);
  if (!s.exists() || !module.is_function(s))
    return complaint(fmt::format("no function with a body is called '{}'", function),
                     "a function of the module");
  std::unique_ptr<Caller> out(new Caller);
  out->signature_ = *module.signature(s);
  out->realm_ = std::make_unique<Realm>();
  Module bridge(*out->realm_, "bridge");
  Symbol callee = bridge.add_extern_function("callee", out->signature_);
  Symbol enter = bridge.add_function("enter", {{Type::pointer()}, {}});
  Pen pen(bridge, bridge.function(enter));
  pen.at_end(bridge.function(enter).add_block());
  Value frame = bridge.function(enter).parameters()[0];
  std::vector<Value> arguments;
  int64_t word = 0;
  for (Type t : out->signature_.parameters) arguments.push_back(pen.load(t, frame, {}, 1, 8 * word++));
  for (Value v : pen.call(callee, arguments)) pen.store(v, frame, {}, 1, 8 * word++);
  pen.give_back({});
  void* address = jit.address(function);
  auto compiled = Jit::compile(bridge, target, {}, [&](std::string_view) { return address; });
  if (!compiled) return compiled.why();
  out->bridge_ = std::move(*compiled);
  out->enter_ = reinterpret_cast<void (*)(uint64_t*)>(out->bridge_->address("enter"));
  return out;
}

static std::vector<uint64_t> results_in(const uint64_t* words, const Signature& signature) {
  std::vector<uint64_t> out;
  for (size_t k = 0; k < signature.results.size(); ++k)
    out.push_back(words[signature.parameters.size() + k] &
                  static_cast<uint64_t>(mask_of(signature.results[k].bits())));
  return out;
}

std::vector<uint64_t> Caller::call(std::span<const uint64_t> arguments) const {
  std::vector<uint64_t> frame(arguments.begin(), arguments.end());
  frame.resize(signature_.parameters.size() + signature_.results.size());
  enter_(frame.data());
  return results_in(frame.data(), signature_);
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

}  // namespace

NativeOutcome Caller::call_apart(std::span<const uint64_t> arguments, double limit, unsigned repeats) const {
  size_t words = signature_.parameters.size() + signature_.results.size();
  SharedMemory shared((words + 2) * 8);
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
    for (int s : {SIGILL, SIGFPE, SIGSEGV, SIGBUS, SIGALRM, SIGTRAP}) signal(s, SIG_DFL);
    rlimit no_core{0, 0};
    setrlimit(RLIMIT_CORE, &no_core);
    alarm(static_cast<unsigned>(limit) + 1);
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
    out.results = results_in(frame, signature_);
    std::memcpy(&out.seconds, frame + words, 8);
  } else {
    set_outcome(out, status, limit);
  }
  return out;
}

}  // namespace porphyry
