// The reference evaluator: the definition of what a program means.
//
// Memory is bytes in objects: each data item, each `reserve`, each piece handed in. A pointer is an object
// and an address; only access checks bounds. Bytes remember the pointer that was stored in them. A run ends
// with a result, a trap or a fault (the program broke a rule or its author's word), or it exhausts what it
// was given (steps, frames, memory), which proves nothing.
//
// Calls do not use the host's stack. Nothing is shared between evaluators.
#pragma once

#include <functional>
#include <memory>
#include <span>
#include <string>
#include <vector>

#include "porphyry/ir/edge_counts.h"
#include "porphyry/ir/module.h"

namespace porphyry {

// A scalar in a run. A value of n lanes is n of them, lane 0 first.
struct Datum {
  uint64_t bits = 0;  // the low 64
  uint64_t high = 0;  // of wider integers the rest; of pointers where they come from: see object()

  // Of a pointer: the object it leads to; 0: none.
  uint32_t object() const { return static_cast<uint32_t>(high); }
  Bits word() const { return Bits(high) << 64 | bits; }
  static Datum of(Bits w) { return {static_cast<uint64_t>(w), static_cast<uint64_t>(w >> 64)}; }
};

// A `watch` or `here` of a run, as it is reached.
struct Sighting {
  Symbol function;
  Instruction at;
  std::span<const Datum> value;  // of a watch; lanes one behind the other. Valid until the call returns
  size_t depth;                  // calls inside calls; 1 in the function that was called first
};

// A value of a run as it is made, or an instruction that makes none as it is run.
struct Observation {
  Symbol function;
  Instruction at;  // that made it; of a block's parameter, the jump that brought it; of a function's, none
  Value value;     // none: the instruction has no results
  std::span<const Datum> lanes;  // of the value; without one, of all operands. Valid until the call returns
  size_t depth;                  // calls inside calls; 1 in the function that was called first
};

struct EvaluatorOptions {
  uint64_t seed = 1;                    // fills fresh memory and makes other open choices
  uint64_t step_limit = 1'000'000'000;  // operations
  uint64_t frame_limit = 2'000'000;     // calls inside calls
  uint64_t memory_limit = 1ull << 30;   // bytes in objects made by the run, and for keeping book on them
  EdgeCounts* counts = nullptr;         // gets how often edges are taken, on top of what it holds
  std::function<void(const Sighting&)> see = {};  // called for each; none costs nothing
  // Called for every value and instruction, which makes a run some ten times slower; none costs nothing.
  std::function<void(const Observation&)> follow = {};
};

struct Outcome {
  enum class End : uint8_t { Result, Trap, Fault, Exhausted };
  struct Call {
    Symbol function;
    Instruction at;
  };

  End end = End::Result;
  std::vector<Datum> results;  // lanes one behind the other
  std::string message;         // why, unless a result
  std::vector<Call> trace;     // innermost first, unless a result; cut to 64
  uint64_t steps = 0;
  bool too_deep = false;  // exhausted by calls inside calls
};

// A call of an external function, as its host sees it.
class HostCall {
 public:
  std::span<const Datum> arguments;  // lanes one behind the other
  std::span<Datum> results;

  // Bytes that a pointer leads to; empty when they are not all inside a live object. Writing where the
  // function is declared not to, or into constants, gives nothing and ends the run with a fault.
  virtual std::span<const uint8_t> read(Datum pointer, uint64_t size) = 0;
  virtual std::span<uint8_t> write(Datum pointer, uint64_t size) = 0;
  // A new object with arbitrary contents.
  virtual Datum allocate(uint64_t size, uint32_t align = 16) = 0;
  // Ends the life of an object that `allocate` made. False when it is not one, or dead.
  virtual bool end_life(Datum pointer) = 0;

 protected:
  ~HostCall() = default;
};

class Evaluator {
 public:
  // An external function: fills the results; false is a trap.
  using HostFunction = std::function<bool(HostCall& call)>;

  // The module must be verified and must outlive the evaluator, unchanged.
  explicit Evaluator(const Module& module, EvaluatorOptions options = {});
  ~Evaluator();
  Evaluator(const Evaluator&) = delete;
  Evaluator& operator=(const Evaluator&) = delete;

  // Hands a piece of the caller's memory in; accesses go straight to it. The bytes must outlive the runs.
  Datum attach(std::span<uint8_t> bytes, std::string name, bool writable = true);
  // In place of an earlier one. The host may not call this evaluator.
  void provide(Symbol external, HostFunction host);

  // Runs a function. Data items keep what earlier runs left in them. The arguments must be as many as the
  // parameters have lanes in all, each as wide as its parameter: nothing checks them. A symbol without a body
  // is a fault.
  Outcome call(Symbol function, std::span<const Datum> arguments);

  // The current bytes of a data item of the module; valid until the evaluator is gone, changed by runs.
  std::span<const uint8_t> data(Symbol item) const;

 private:
  class Machine;
  std::unique_ptr<Machine> machine_;
};

// "a result", "a trap", …
std::string end_text(Outcome::End end);

}  // namespace porphyry
