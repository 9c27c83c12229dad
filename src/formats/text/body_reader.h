// Reads the body of one function.
#pragma once

#include "cursor.h"
#include "porphyry/formats/text.h"
#include "porphyry/ir/pen.h"

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

struct StatementTables;

// What the readers of one text share.
struct ReadContext {
  ReadContext(Module& m, const SourceText& s, const Tokens& t, Diagnostics& p);
  ~ReadContext();

  Module& module;
  const SourceText& source;
  const Tokens& tokens;
  Diagnostics& problems;
  Names names;
  SideTable<Name, KindPath> paths;          // those read already, by their text
  uint64_t budget = Type::constant_budget;  // words that constants with lanes may still take
  std::unique_ptr<StatementTables> tables;  // lists of the reader of bodies
};

// A type; nothing, and a complaint, when there is none here.
std::optional<Type> read_type(Cursor& cursor, const Module& module);
// `permit a, b` and the like, behind the word: the bits of those that are known.
std::optional<uint8_t> read_words(Cursor& cursor, std::string_view what,
                                  std::span<const std::string_view> words);
// orchard.Night.last.wet
std::optional<KindPath> read_path(Cursor& cursor, Module& module, SideTable<Name, KindPath>& known);

// `cursor` stands behind the opening brace's line end; afterwards behind the closing brace, whose offset is
// given back; `end` is the token of that brace. Comments between the two go into the function.
// Comments from the offset on are the function's.
uint32_t read_body(ReadContext& context, Cursor& cursor, Symbol symbol, size_t end, uint32_t comments_from,
                   PlaceMap::Body& places);

}  // namespace porphyry::text
