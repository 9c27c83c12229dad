// Runs one instruction of a book by its meaning, on a state of registers, flags and memory.
#pragma once

#include <functional>
#include <optional>
#include <string>
#include <vector>

#include "porphyry/ir/compute.h"
#include "porphyry/machine/target.h"

namespace porphyry::simulate {

struct State {
  std::vector<Bits> registers;  // by physical number, as wide as their class
  std::vector<bool> flags;      // by the book's order
  uint64_t next = 0;            // address of the instruction behind the one that runs

  explicit State(const machine::Target& target);
};

struct MemoryAccess {
  std::function<std::optional<Bits>(uint64_t address, unsigned bytes)> load;  // nothing: a fault
  std::function<bool(uint64_t address, unsigned bytes, Bits value)> store;    // false: a fault
};

struct StepOutcome {
  enum class End : uint8_t { Next, Gone, Trap, Fault } end = End::Next;
  uint64_t to = 0;                      // Gone: where the run goes on
  std::vector<std::string> open_flags;  // flags that the processor leaves open
};

// Labels and symbols of the instruction are distances from `state.next`. The instruction must be of this
// target, as `decode` gives them. O(length of the meaning).
StepOutcome step(const machine::Target& target, const machine::PlainInstruction& i, State& state,
                 const MemoryAccess& memory);

}  // namespace porphyry::simulate
