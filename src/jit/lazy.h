// Functions that are compiled when they are first called.
#pragma once

#include <mutex>

#include "announce.h"
#include "placing.h"
#include "porphyry/base/scratch.h"
#include "porphyry/jit/jit.h"
#include "porphyry/machine/legalize.h"

namespace porphyry {

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

  machine::LoweredModule& lowered() { return lowered_; }
  // How much the entries take; they stand first in the memory that the Jit has placed.
  size_t entry_bytes() const { return asking_bytes_ + entry_size_ * entries_; }
  uint8_t* entry(size_t symbol) { return start_ + asking_bytes_ + entry_size_ * symbol; }
  size_t word_bytes() const { return 8 * entries_; }
  // How far behind the rest code may grow; reserved without being taken.
  size_t reserve() const { return reserve_; }
  struct Memory {
    uint8_t *entries, *words, *growth;
  };
  // Writes the entries and words. `reached` is, by symbol, what code calls or names.
  void begin(Memory memory, std::vector<uint8_t*> reached);
  std::optional<CodePlace> locate(uint64_t address);
  MemoryRegion grown() const { return {growth_, used_, false, true}; }

 private:
  static void* first_call(void* self, uint64_t symbol);
  void* compile(size_t symbol);

  const machine::Target& target_;
  JitOptions how_;
  machine::LowerOptions options_;
  machine::LoweredModule lowered_;
  machine::Coverage coverage_;
  machine::RuleIndex rules_;
  std::unique_ptr<machine::Legalizer> legalizer_;
  machine::LowerMemory memory_;
  std::mutex lock_;  // of all but the words
  size_t entries_, entry_size_ = 0, asking_bytes_ = 0, reserve_ = 0, used_ = 0;
  uint64_t* words_ =
      nullptr;  // by symbol: where its function begins; read by code, so only written atomically
  std::vector<uint8_t*> code_of_;  // by symbol; null where it is still to be compiled
  std::vector<uint64_t> places_;   // by function of lowered_: its code
  std::vector<std::unique_ptr<DebuggerEntry>> shown_;
  uint8_t *start_ = nullptr, *growth_ = nullptr;
  std::vector<uint8_t*> reached_;
};

}  // namespace porphyry
