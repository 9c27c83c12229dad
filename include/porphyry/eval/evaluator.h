// The reference evaluator: the definition of what a program means.
//
// Memory is bytes in objects: each data item, each `reserve`, each piece handed in. A pointer is an object
// and an address; only access checks bounds. Bytes remember the pointer that was stored in them. A run ends
// with a result, a trap or a fault, or it exhausts what it was given (steps, frames, memory), which proves
// nothing.
//
// Calls do not use the host's stack. Nothing is shared between evaluators.
#pragma once

#include <functional>
#include <memory>
#include <span>
#include <string>
#include <vector>

#include "porphyry/ir/module.h"

namespace porphyry {

// A value in a run: bits, and for pointers the object they lead to (0: none).
struct Datum {
  uint64_t bits = 0;
  uint32_t object = 0;
};

struct EvaluatorOptions {
  uint64_t seed = 1;                    // fills fresh memory
  uint64_t step_limit = 1'000'000'000;  // operations
  uint64_t frame_limit = 2'000'000;     // calls inside calls
  uint64_t memory_limit = 1ull << 30;   // bytes in objects made by the run
};

struct Outcome {
  enum class End : uint8_t { Result, Trap, Fault, Exhausted };
  struct Call {
    Symbol function;
    Instruction at;
  };

  End end = End::Result;
  std::vector<Datum> results;
  std::string message;      // why, unless a result
  std::vector<Call> trace;  // innermost first, unless a result; cut to 64
  uint64_t steps = 0;
};

class Evaluator {
 public:
  // An external function: fills `results`; false is a trap.
  using HostFunction = std::function<bool(std::span<const Datum> arguments, std::span<Datum> results)>;

  // The module must be verified and must outlive the evaluator, unchanged.
  explicit Evaluator(const Module& module, EvaluatorOptions options = {});
  ~Evaluator();
  Evaluator(const Evaluator&) = delete;
  Evaluator& operator=(const Evaluator&) = delete;

  // Hands a piece of the caller's memory in; accesses go straight to it. The bytes must outlive the runs.
  Datum attach(std::span<uint8_t> bytes, std::string name, bool writable = true);
  void provide(Symbol external, HostFunction host);

  // Runs a function. Data items keep what earlier runs left in them.
  Outcome call(Symbol function, std::span<const Datum> arguments);

  // The current bytes of a data item.
  std::span<const uint8_t> data(Symbol item) const;

 private:
  class Machine;
  std::unique_ptr<Machine> machine_;
};

// "a result", "a trap", …
std::string end_text(Outcome::End end);

}  // namespace porphyry
