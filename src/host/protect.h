// Runs compiled code so that a signal that it brings about, a trap or a wild access, comes back as a value.
//
// Handlers are installed once for the process. A signal in other code than what is protected goes to whoever
// had a handler before. Several threads may run protected code at once, and protected code may be called from
// a host's function that protected code has called.
#pragma once

#include <cstdint>
#include <span>

#include "porphyry/jit/jit.h"

namespace porphyry::wasm {

struct Stop {
  int signal = 0;        // 0: it ran to its end
  uint64_t at = 0;       // the instruction
  uint64_t address = 0;  // what it reached for, of SIGSEGV and SIGBUS
  uint64_t stack = 0;    // the stack pointer, as far as the system tells
};

// Calls `run(what)`. `code`: where the code lies whose signals are meant. With a limit in seconds SIGALRM
// ends the run; one thread at a time may then be in here.
Stop run_protected(const machine::Target& target, std::span<const MemoryRegion> code, double limit,
                   void (*run)(void*), void* what);

}  // namespace porphyry::wasm
