// Calls by hand of an instance from WebAssembly, one after the other: arguments as words, results as text.
//
//   post = malloc 64                a label, so that later calls may take the result as $post
//   fill $post 64 -1
//   wet_bulb 3.5 0.4
//   sum file:night.txt:f32 36       a file's numbers, put into the instance's memory, and their offset there
//
// Words are those of call.h; `file:` and `zero:` stand for an offset (an i32) in the memory: of bytes that
// the program's own exported `malloc` gave, or behind everything that the memory had so far. `$1` is the
// result of the first call; lines count, too. `#` starts a comment.
#pragma once

#include "porphyry/base/source_text.h"
#include "porphyry/call/call.h"
#include "porphyry/host/instance.h"

namespace porphyry::wasm {

struct SessionCall {
  std::string text;  // as it was written
  CallResult run;
  std::vector<std::string> results;  // as the text form writes them
};

class Session {
 public:
  using Runner = std::function<CallResult(Instance&, std::string_view, std::span<const Datum>)>;
  // `run` makes the calls: usually Instance::call.
  explicit Session(Instance& instance, Runner run = {});

  // What a program wants called before anything else: `_initialize`, or the constructors of languages that
  // have some. Nothing when the program has none.
  CallResult begin();
  // Every wrong word is reported; a trap is a result.
  Result<SessionCall> call(std::string_view function, const std::vector<std::string>& words,
                           std::string_view label = {});
  // Calls of a file, one a line, its own files beside it, until one ends in anything but a result. Wrong words end it, too.
  Result<std::vector<SessionCall>> run_file(const SourceText& calls);

  // What happened to the memory behind `file:` and `zero:`, as changed_memory of call.h says it.
  std::vector<std::string> changed_memory(size_t most = 64);

 private:
  Result<Datum> argument(const std::string& word, ValueType type);
  Result<uint32_t> put(MemoryPiece& piece);
  void fetch();

  Instance& instance_;
  Runner run_;
  std::map<std::string, Datum, std::less<>> results_;  // by label
  size_t calls_ = 0;
  PreparedCall pieces_;
  std::vector<uint32_t> places_;  // of the pieces
};

// A value as the text form writes it; references as null or their word.
std::string value_text(const Datum& d, ValueType type);

}  // namespace porphyry::wasm
