// Functions that are compiled when they are first called.
#pragma once

#include <mutex>

#include "announce.h"
#include "placing.h"
#include "porphyry/base/scratch.h"
#include "porphyry/jit/jit.h"
#include "porphyry/machine/legalize.h"

namespace porphyry {

// Lowers one function at a time, legalized first.
class FunctionCompiler {
 public:
  FunctionCompiler(const Module& module, const machine::Target& target, const machine::LowerOptions& options);
  Result<machine::CompiledFunction> compile(Symbol symbol);
  machine::LoweredModule lowered;  // the caller that places a function adds it to `functions`

 private:
  machine::LowerOptions options_;
  machine::Coverage coverage_;
  machine::RuleIndex rules_;
  machine::Legalizer legalizer_;
  machine::LowerMemory memory_;
};

// The entries of all functions, behind the code that asks for one to be compiled, and their words.
class Entries {
 public:
  Entries(const machine::Target& target, size_t count, void* (*compile)(void*, uint64_t), void* self);
  size_t count() const { return count_; }
  size_t bytes() const { return asking_bytes_ + entry_bytes_ * count_; }
  size_t word_bytes() const { return 8 * count_; }
  uint8_t* operator[](size_t symbol) const { return start_ + asking_bytes_ + entry_bytes_ * symbol; }
  // Writes them; `words` is where the words lie. All lead to the asking code.
  void write(uint8_t* start, uint8_t* words);
  // From now on the entry leads to this code. Atomic: other threads jump through the word meanwhile.
  void lead_to(size_t symbol, const uint8_t* code);

 private:
  const machine::Target& target_;
  size_t count_, entry_bytes_ = 0, asking_bytes_ = 0;
  void* (*compile_)(void*, uint64_t);
  void* self_;
  uint8_t* start_ = nullptr;
  uint64_t* words_ = nullptr;
};

// Memory that code grows into, reserved without being taken; each piece from a page of its own on.
struct GrowingCode {
  uint8_t* start = nullptr;
  size_t reserved = 0, used = 0;
  // The next bytes, writable; null when there are no more.
  uint8_t* open(size_t bytes);
  // Makes what `open` gave executable, never to be written again; false when the system refuses.
  bool close(size_t bytes);
};

// Every function has an entry that jumps through its word. A word first leads to the entry's second part,
// which puts the function's number aside and goes to the asking code; that calls first_call, which compiles,
// swaps the word and says where to go. Code grows into memory reserved behind the rest, so that distances
// stay short: each function from a page of its own on, since a page is written before it is executable and
// not afterwards.
class LazyCode {
 public:
  LazyCode(const Module& module, const machine::Target& target, const machine::LowerOptions& options,
           const JitOptions& how);
  ~LazyCode();

  machine::LoweredModule& lowered() { return compiler_.lowered; }
  // How much the entries take; they stand first in the memory that the Jit has placed.
  size_t entry_bytes() const { return entries_.bytes(); }
  uint8_t* entry(size_t symbol) const { return entries_[symbol]; }
  size_t word_bytes() const { return entries_.word_bytes(); }
  // How far behind the rest code may grow; reserved without being taken.
  size_t reserve() const { return growth_.reserved; }
  struct Memory {
    uint8_t *entries, *words, *growth;
  };
  // Writes the entries and words. `reached` is, by symbol, what code calls or names.
  void begin(Memory memory, std::vector<uint8_t*> reached);
  std::optional<CodePlace> locate(uint64_t address);
  MemoryRegion grown() const { return {growth_.start, growth_.used, false, true}; }

 private:
  static void* first_call(void* self, uint64_t symbol);
  void* compile(size_t symbol);
  uint8_t* put(const machine::CompiledFunction& f);
  void announce(const machine::CompiledFunction& f, uint64_t address);

  const machine::Target& target_;
  JitOptions how_;
  FunctionCompiler compiler_;
  Entries entries_;
  GrowingCode growth_;
  std::mutex lock_;                // of all but the entries' words
  std::vector<uint8_t*> code_of_;  // by symbol; null where it is still to be compiled
  std::vector<uint64_t> places_;   // by function of the lowered module: its code
  std::vector<std::unique_ptr<DebuggerEntry>> shown_;
  std::vector<uint8_t*> reached_;
};

}  // namespace porphyry
