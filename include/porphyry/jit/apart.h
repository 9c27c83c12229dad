// Runs compiled code in a child process, so that a trap, a wild access or an endless loop is an outcome and
// not the end of the caller.
#pragma once

#include <cstdint>
#include <memory>
#include <span>

#include "porphyry/jit/jit.h"
#include "porphyry/print/print.h"

namespace porphyry {

// Memory that a child's writes reach the parent through. Freed with the object.
class SharedMemory {
 public:
  explicit SharedMemory(size_t bytes);
  ~SharedMemory();
  SharedMemory(const SharedMemory&) = delete;
  SharedMemory& operator=(const SharedMemory&) = delete;
  std::span<uint8_t> bytes() const { return {memory_, bytes_}; }

 private:
  uint8_t* memory_ = nullptr;
  size_t bytes_ = 0;
};

// Memory that a target's pointers reach, for simulation: zeros at first.
class ReachableMemory {
 public:
  ReachableMemory(size_t bytes, const machine::Target& target);
  ~ReachableMemory();
  ReachableMemory(const ReachableMemory&) = delete;
  ReachableMemory& operator=(const ReachableMemory&) = delete;
  std::span<uint8_t> bytes() const { return {memory_, bytes_}; }
  uint64_t address() const { return reinterpret_cast<uintptr_t>(memory_); }

 private:
  uint8_t* memory_ = nullptr;
  size_t bytes_ = 0;
};

struct NativeOutcome {
  enum class End : uint8_t { Result, Trap, Fault, TooLong } end = End::Result;
  std::vector<uint64_t> results;  // the words of each, as constants have them: see Type::words
  std::string message;            // why, unless a result
  double seconds = 0;             // in the function, measured in the child
};

// ", in 'f' at night.fml:3:1: operation", for messages: where an address lies. It says so of code that is not
// the module's.
std::string place_text(const Jit& jit, uint64_t address);

// Code that takes a function's arguments from words, as constants have them, calls it and leaves its results
// in the words behind: `enter(frame)`, compiled for the signature by ourselves.
struct Bridge {
  std::unique_ptr<Realm> realm;
  std::unique_ptr<Jit> code;
  Signature signature;
  size_t argument_words = 0, result_words = 0;
  // Puts the words of arguments into a frame, each value as it lies in the module's memory.
  void put_arguments(std::span<const uint64_t> words, uint64_t* frame) const;
  // The words of the results in a frame that was run, masked to their types.
  std::vector<uint64_t> results(const uint64_t* frame) const;
};
Result<Bridge> make_bridge(const Jit& jit, std::string_view function, const machine::Target& target);
// The same to code at an address, of any compiler, that keeps the calling convention.
Result<Bridge> make_bridge(const Signature& signature, void* address, const MemoryLayout& layout,
                           const machine::Target& target, const JitOptions& how = {});

// A function with arguments and results in a frame of words, as constants have them: code that loads the one
// and stores the other is compiled for the signature, by ourselves.
class Caller {
 public:
  // The Jit must outlive it.
  static Result<std::unique_ptr<Caller>> make(const Jit& jit, std::string_view function,
                                              const machine::Target& target);

  // In this process: a trap or a fault ends it. Words of arguments that are missing are zeros.
  std::vector<uint64_t> call(std::span<const uint64_t> arguments) const;
  // In this process, which goes on afterwards however the run ends: a signal that it causes, or the end
  // of its time, is an outcome. One call at a time in a process; for debuggers and profilers. What the run
  // had begun, in routines of the host above all, stays as it was.
  NativeOutcome call_here(std::span<const uint64_t> arguments, double time_limit_seconds = 10) const;
  // In a child; memory that should be seen afterwards must be shared. `repeats` calls it that many times. A
  // trap or a wild access is told with the function, source line and operation it happened in. The child ends
  // with its parent. What is compiled lazily in the child is compiled again here.
  NativeOutcome call_apart(std::span<const uint64_t> arguments, double time_limit_seconds = 10,
                           unsigned repeats = 1) const;

 private:
  Caller(const Jit& jit, const machine::Target& target) : jit_(jit), target_(target) {}
  const Jit& jit_;
  const machine::Target& target_;
  Bridge bridge_;
  void (*enter_)(uint64_t* frame) = nullptr;
};

}  // namespace porphyry
