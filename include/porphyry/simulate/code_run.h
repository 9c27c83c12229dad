// Runs machine code that has no bytes yet: as it was selected, on virtual registers, or as it was allocated,
// before the frame is laid out. Together with the evaluator (before) and Runner (the bytes afterwards) every
// stage can be run.
//
// Each instruction does what the book says it means; the registers among its operands are lent to it from a
// few physical ones. What a call may lose, open flags, and registers and slots that nobody has written hold
// bits from a seed, so that code which depends on them shows itself by two seeds.
#pragma once

#include "porphyry/machine/allocate.h"
#include "porphyry/simulate/run.h"

namespace porphyry::simulate {

enum class Stage : uint8_t { Selected, Allocated };

// After one instruction; valid during the call that gets it.
struct CodeObservation {
  const machine::Code* code = nullptr;
  uint32_t line = 0;                                // of code->code
  const State* state = nullptr;                     // physical registers, flags
  std::span<const Bits> virtuals;                   // by register number minus machine::first_virtual
  const machine::Allocation* allocation = nullptr;  // of allocated code: what its registers carry
};

class CodeRunner {
 public:
  // The functions of `jit`, which must outlive it, brought to the stage. Data lie where the Jit has them.
  static Result<std::unique_ptr<CodeRunner>> make(const Jit& jit, const machine::Target& target, Stage stage,
                                                  std::optional<machine::Features> features = {});
  ~CodeRunner();

  // Memory that the program may reach besides its data and stack.
  void allow(std::span<uint8_t> memory) { allowed_.push_back({memory.data(), memory.size(), true, false}); }
  // Arguments and results as in Runner; `see` of the options is not called, this one is.
  RunOutcome run(std::string_view function, std::span<const uint64_t> arguments,
                 const RunOptions& options = {}, const std::function<void(const CodeObservation&)>& see = {});

 private:
  friend class CodeRun;
  CodeRunner(const Jit& jit, const machine::Target& target) : jit_(jit), target_(target) {}

  const Jit& jit_;
  const machine::Target& target_;
  // By symbol; null where there is no body. Selected code is the code alone.
  std::vector<std::unique_ptr<machine::Allocation>> codes_;
  bool allocated_ = false;
  std::unique_ptr<ReachableMemory> constants_;        // pool entries, of 16 bytes each, and jump tables
  std::vector<std::vector<size_t>> constant_places_;  // by symbol, row of its constants: where in constants_
  std::unordered_map<uint64_t, uint32_t> functions_;  // by address: the symbol
  std::vector<MemoryRegion> allowed_;
};

}  // namespace porphyry::simulate
