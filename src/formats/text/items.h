// The reader of a module's items, one class in three files: headers (reader.cpp), data (data_reader.cpp),
// kinds (kinds_reader.cpp). Headers are read in a first walk, so that they may stand in any order; bodies and
// data in a second one.
#pragma once

#include "body_reader.h"

namespace porphyry::text {

class ItemReader {
 public:
  ItemReader(Realm& realm, const SourceText& source);
  ReadModule run(const BodyRead& body_read);

 private:
  struct Late {  // what is read in the second walk
    Symbol symbol;
    size_t token;
    bool is_body;
    size_t end = 0;  // of a body: the closing brace
  };
  struct Anchor {  // what a comment may stand above
    uint32_t offset;
    Module::Comment::Above above;
    uint32_t index, part;
    uint32_t body_end = 0;  // comments up to here belong to the function
  };
  struct Linkage {
    bool is_local = false, is_weak = false;
    std::string section;
  };

  // reader.cpp
  void header();
  void module_line();
  void layout_line();
  void source_line();
  void extern_line();
  void function_header(const Linkage& linkage);
  bool read_linkage(Linkage& out);
  bool function_facts(FunctionFacts& facts, bool is_external);
  std::optional<Signature> signature_of(bool named, std::vector<Name>& names, FunctionFacts& facts);
  bool parameter_marks(FunctionFacts& facts, size_t parameter);
  std::optional<std::string> new_name(std::string_view what);
  void add_symbol(Symbol s, Token name);
  void skip_body();
  void gather_comments();

  // data_reader.cpp
  void data_header(const Linkage& linkage);
  bool line_goes_on(const Token& before) const;
  void skip_data();
  void next_element(Symbol s, size_t number);
  void data_contents(Symbol s);
  std::optional<DataPiece> data_piece(Symbol s, size_t& element);
  bool data_element(DataPiece& piece);
  bool data_number(DataPiece& piece);
  bool data_number_lane(DataPiece& piece);

  // kinds_reader.cpp
  struct WrittenKind {
    Token token, parent;
    KindRow row;
    bool has_parent = false;
  };
  struct WrittenMember {
    Token kind;
    RecordMember member;
    uint32_t offset = 0;
  };
  struct WrittenRecord {
    Token token;
    RecordRow row;
    std::vector<WrittenMember> members;
    uint32_t end = 0;  // of the closing brace
  };
  void kinds_block();
  bool kind_line(KindTree tree, std::vector<WrittenKind>& kinds);
  bool record_line(KindTree tree, std::vector<WrittenRecord>& records);
  void add_kinds(std::vector<WrittenKind>& kinds, std::vector<WrittenRecord>& records);
  Name take_name() { return module().realm().name(cursor_.plain(cursor_.take())); }

  void anchor(uint32_t offset, Module::Comment::Above above, size_t index, size_t part = 0) {
    anchors_.push_back({offset, above, static_cast<uint32_t>(index), static_cast<uint32_t>(part)});
  }
  Module& module() { return *out_.module; }

  const SourceText& source_;
  ReadModule out_;
  Tokens tokens_;
  Cursor cursor_;
  ReadContext context_;
  std::vector<Late> late_;
  std::vector<Anchor> anchors_;         // in the order of the text
  std::vector<size_t> symbol_anchors_;  // by symbol
  std::vector<Name> parameter_names_;   // of the current function
  uint32_t item_offset_ = 0;
  size_t body_end_ = 0;  // of the body that was skipped last
  size_t next_end_ = 0;  // row of Tokens::body_ends
};

}  // namespace porphyry::text
