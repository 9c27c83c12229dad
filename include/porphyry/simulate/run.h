// Runs compiled code by the book: each instruction is decoded from its bytes and does what the book says it
// means.
//
// Only memory that was allowed is touched; flags that the processor leaves open get bits from a seed, so that
// code which depends on them shows itself by two seeds. What each instruction left behind can be looked at.
#pragma once

#include <functional>
#include <memory>
#include <span>
#include <string>
#include <unordered_map>
#include <vector>

#include "porphyry/jit/apart.h"
#include "porphyry/simulate/step.h"

namespace porphyry::simulate {

// After one instruction; valid during the call that gets it.
struct Observation {
  uint64_t address = 0;
  const machine::PlainInstruction* instruction = nullptr;
  const State* state = nullptr;
};

struct RunOptions {
  uint64_t seed = 1;  // of open flags and of registers at the start
  uint64_t step_limit = 50'000'000;
  size_t stack_bytes = 1 << 20;
  std::function<void(const Observation&)> see;  // called after each instruction, when there is one
};

struct RunOutcome {
  enum class End : uint8_t { Result, Trap, Fault, TooLong } end = End::Result;
  std::vector<uint64_t> results;  // the words of each, as constants have them
  std::string message;            // why, unless a result
  uint64_t at = 0;                // address of the last instruction, if it had one
  std::string place;              // ", in 'f' at …", of one that had none
  uint64_t steps = 0;
};

class Runner {
 public:
  // The function is entered through code of our own that fetches arguments and leaves results in words; see
  // Caller. Fails where that cannot be compiled, and for a name that is no function's. The Jit must outlive
  // it.
  static Result<std::unique_ptr<Runner>> make(const Jit& jit, std::string_view function,
                                              const machine::Target& target);

  // Memory that the program may reach besides its own code, constants, data and stack.
  void allow(std::span<uint8_t> memory) { allowed_.push_back({memory.data(), memory.size(), true, false}); }
  // Words of arguments that are missing are zeros. O(steps * length of their meanings).
  RunOutcome run(std::span<const uint64_t> arguments, const RunOptions& options = {});

 private:
  struct Decoded {
    machine::PlainInstruction instruction;
    uint8_t size = 0;
  };
  Runner(const Jit& jit, const machine::Target& target, Bridge bridge);
  const Decoded& decoded(uint64_t address, const MemoryRegion& code);
  Result<const Decoded*> instruction_at(uint64_t at);

  const machine::Target& target_;
  Bridge bridge_;
  std::vector<MemoryRegion> allowed_;
  std::unordered_map<uint64_t, Decoded> decoded_;
};

}  // namespace porphyry::simulate
