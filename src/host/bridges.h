// Code between the host and compiled programs: values go through a frame of 16 bytes each, parameters first.
// It is made in the IR and compiled for the types that a program has, once each.
#pragma once

#include "porphyry/host/imports.h"
#include "porphyry/jit/jit.h"

namespace porphyry::wasm {

struct FrameSlot {
  uint64_t low = 0, high = 0;
};

// What a host's function is called with: the first argument of its record.
struct HostContext {
  Instance* instance;
  const Imports::Function* function;
};

// Why a host's function ended a run on this thread: what the call that began it finds out.
struct HostStop {
  bool is_set = false;
  std::string message;
  std::optional<uint32_t> exit_code;
};
HostStop& host_stop();

class Bridges {
 public:
  // For the types of all functions of the program.
  static Result<std::unique_ptr<Bridges>> compile(const Program& program, const machine::Target& target);

  // Calls `code(context, …)` with what is in the frame.
  using Enter = void (*)(const void* code, void* context, FrameSlot* frame);
  // Types by their number in the program: those of its functions.
  Enter enter(uint32_t type) const { return pairs_[type].enter; }
  // Code that takes a HostContext and the type's parameters, and calls that function.
  const void* to_host(uint32_t type) const { return pairs_[type].to_host; }
  const Jit& jit() const { return *jit_; }

 private:
  struct Pair {
    Enter enter = nullptr;
    const void* to_host = nullptr;
  };
  Realm realm_;
  std::unique_ptr<Jit> jit_;
  std::vector<Pair> pairs_;  // by type
};

}  // namespace porphyry::wasm
