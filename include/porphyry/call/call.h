// A call by hand: arguments given as words, run by the evaluator or on the processor, and what memory looks
// like afterwards.
//
//   42, 0x2a, 2.5, true        a number, written as in the text form
//   file:PATH:TYPE             a file's numbers in memory, and their address: columns of text (every number
//   of file:PATH:TYPE:COLUMN      the file, or one column, from 1; `#` starts a comment), or, for names that
//   end
//                              in .bin, the raw bytes
//   {1.5, 2, 3, 4}             lanes
//   zero:BYTES[:TYPE]          fresh cleared memory, and its address; shown as numbers of the type (else i8)
//   bytes:HEX                  memory of these bytes, two hex digits each, and its address
//   random:BYTES[:TYPE[:SEED]] the same with numbers of the type that a seed makes, many of them small
#pragma once

#include <memory>
#include <string>
#include <vector>

#include "porphyry/base/diagnostics.h"
#include "porphyry/eval/evaluator.h"
#include "porphyry/jit/apart.h"
#include "porphyry/simulate/code_run.h"

namespace porphyry {

// Memory that a word asked for.
struct MemoryPiece {
  std::string word;
  Type type;  // of its numbers; i8 for raw bytes
  std::vector<uint8_t> initial;
  std::unique_ptr<SharedMemory> memory;
  ByteOrder order = ByteOrder::Little;  // the module's

  // Elements as the text form writes them, at most `most`.
  std::string numbers(size_t most) const;
  bool changed() const;
  size_t count() const { return initial.size() / type.bytes(); }
  std::string number(size_t k) const;  // element k as it is now
  std::string number_before(size_t k) const;
  bool changed(size_t k) const;
  // Puts the initial bytes back.
  void reset();
};

// Belongs to the module it was prepared for. A run leaves its changes in the pieces: reset them before
// another.
struct PreparedCall {
  Symbol function;
  struct Argument {
    std::vector<uint64_t> words = {};  // as constants have them
    int piece = -1;                    // index of the memory whose address it is
  };
  std::vector<Argument> arguments;
  std::vector<MemoryPiece> pieces;
};

// Every wrong word is reported.
Result<PreparedCall> prepare_call(const Module& module, std::string_view function,
                                  const std::vector<std::string>& words);

// The bytes that `file:PATH:TYPE[:COLUMN]` puts into memory. A row that lacks the column is a diagnostic.
Result<std::vector<uint8_t>> read_numbers(const std::string& path, Type type, unsigned column,
                                          ByteOrder order = ByteOrder::Little);

// One word of a call, for a parameter of the type: the words of a constant, or the memory that it asks for.
struct CallWord {
  std::vector<uint64_t> words;
  std::optional<MemoryPiece> piece;
};
Result<CallWord> read_call_word(const std::string& word, Type type, ByteOrder order = ByteOrder::Little);

struct CallOutcome {
  enum class End : uint8_t { Result, Trap, Fault, Exhausted } end = End::Result;
  std::vector<std::string> results;  // as the text form writes them
  std::string message;
  std::vector<std::string> trace;  // innermost first
  double seconds = 0;
};

CallOutcome run_on_evaluator(const Module& module, PreparedCall& call, const EvaluatorOptions& options = {});
// The same in parts: the mathematical functions that native code finds, too; one run; its results in words.
void provide_usual(Evaluator& evaluator, const Module& module);
// The words of all arguments, as constants have them; of memory its address.
std::vector<uint64_t> argument_words(const PreparedCall& call);
Outcome run_prepared(Evaluator& evaluator, const Module& module, PreparedCall& call);
std::vector<std::string> result_texts(const Module& module, Symbol function, const Outcome& run);
// By the book's meanings of the instructions; `see` looks at what each left behind.
CallOutcome run_on_simulator(const Module& module, const Jit& jit, const machine::Target& target,
                             PreparedCall& call, const simulate::RunOptions& options = {});
// Code without bytes, as selected or allocated.
CallOutcome run_code(const Module& module, simulate::CodeRunner& runner, PreparedCall& call,
                     const simulate::RunOptions& options = {},
                     const std::function<void(const simulate::CodeObservation&)>& see = {});
CallOutcome run_on_processor(const Module& module, const Jit& jit, const machine::Target& target,
                             PreparedCall& call, double time_limit_seconds = 10);
// The same in this process, for debuggers and profilers; see Caller::call_here.
CallOutcome run_here(const Module& module, const Jit& jit, const machine::Target& target, PreparedCall& call,
                     double time_limit_seconds = 10);

// Elements that the run changed: "file:night.txt:f32[3]: 1.5 became 2.0", at most `most` lines a piece.
std::vector<std::string> changed_memory(const PreparedCall& call, size_t most = 64);

}  // namespace porphyry
