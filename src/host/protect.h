// Runs compiled code so that a signal that it brings about, a trap or a wild access, comes back as a value.
//
// Handlers are installed once for the process. A signal in other code than what is protected goes to whoever
// had a handler before. Code is protected while a ProtectedCode says so: all of it at once, as instances call
// one another through tables. Several threads may run protected code at once, and protected code may be
// called from a host's function that protected code has called.
#pragma once

#include <cstdint>
#include <span>

#include "porphyry/jit/jit.h"

namespace porphyry::wasm {

struct Stop {
  int signal = 0;        // 0: it ran to its end
  uint64_t at = 0;       // the instruction
  uint64_t address = 0;  // what it reached for, of SIGSEGV and SIGBUS
};

// Calls `run(what)`. With a limit in seconds SIGALRM ends the run; one thread at a time may then be in here.
Stop run_protected(const machine::Target& target, double limit, void (*run)(void*), void* what);
// Whether an address lies at the end of this thread's stack, or just behind it.
bool is_end_of_stack(uint64_t address);

class NativeCode;

class ProtectedCode {
 public:
  ProtectedCode(const Jit& jit, const NativeCode& owner);
  ~ProtectedCode();
  ProtectedCode(const ProtectedCode&) = delete;
  ProtectedCode& operator=(const ProtectedCode&) = delete;

 private:
  std::vector<struct CodeRange*> ranges_;
};
// Whose code lies there; null when none does. It must not go meanwhile: code that runs does not.
const NativeCode* owner_of(uint64_t at);

}  // namespace porphyry::wasm
