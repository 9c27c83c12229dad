// Reads the body of one function.
#pragma once

#include "cursor.h"
#include "porphyry/ir/pen.h"
#include "porphyry/text/reader.h"

namespace porphyry::text {

// Names of the current function's values and blocks, by interned name. An epoch makes clearing free.
class Names {
 public:
  struct Entry {
    uint32_t epoch = 0;
    Value value;  // nothing: the name was defined by a line that could not be read
    uint32_t block_epoch = 0;
    Block block;
  };
  void next_function() { ++epoch_; }
  Entry& at(Name n) {
    if (n.index >= rows_.size()) rows_.resize(n.index + 1);
    return rows_[n.index];
  }
  bool has_value(Name n) { return at(n).epoch == epoch_; }
  bool has_block(Name n) { return at(n).block_epoch == epoch_; }
  void define(Name n, Value v) { at(n).epoch = epoch_, at(n).value = v; }
  void define(Name n, Block b) { at(n).block_epoch = epoch_, at(n).block = b; }

 private:
  std::vector<Entry> rows_;
  uint32_t epoch_ = 0;
};

struct ReadContext {
  Module& module;
  const SourceText& source;
  const Tokens& tokens;
  Diagnostics& problems;
  Names& names;
};

// Types written as `name` and, in a list, `a, b`. Nothing when there is no type here.
std::optional<Type> read_type(Cursor& cursor);

// `cursor` stands behind the opening brace's line end; afterwards behind the closing brace, whose offset is
// given back. Comments between the two go into the function.
uint32_t read_body(ReadContext& context, Cursor& cursor, Symbol symbol, TextMap::Body& places);

}  // namespace porphyry::text
