// The reader of function bodies, one class in four files: structure (body_reader.cpp), operands
// (body_operands.cpp), what follows each operation word (body_layouts.cpp), making instructions
// (body_instructions.cpp).
#pragma once

#include "body_reader.h"

namespace porphyry::text {

// An operand as written: a value, or a literal whose type may have to come from elsewhere.
struct Written {
  Token token;
  std::string literal;         // not empty: a literal
  std::optional<Type> stated;  // 3:i32
  Value value;
  bool good = true;
};

class BodyReader {
 public:
  BodyReader(ReadContext& context, Cursor& cursor, Symbol symbol, TextMap::Body& places)
      : context_(context),
        module_(context.module),
        cursor_(cursor),
        function_(module_.function(symbol)),
        pen_(module_, function_),
        places_(places) {}

  uint32_t run();

 private:
  using Operands = std::vector<Written>;

  // structure
  void gather_labels();
  void read_label_header();
  void label();
  void statement();
  void lone_comments();

  // operands
  Written operand();
  bool at_operand() const;
  Operands operand_list(char closing, std::string_view what);
  std::optional<Value> settle(Written& w, std::optional<Type> type);
  bool read_address(Operands& operands, Address& address);
  void unknown_value(const Token& token, std::string_view name);

  // one statement by layout; each fills the draft and its storage
  struct Pending {
    Op op;
    Token word;
    Operands written;          // in order of operands
    std::vector<Type> wanted;  // types known from elsewhere, by operand
    std::vector<Type> results;
    uint32_t detail = 0;
    Address address;
    bool has_address = false;
    struct Target {
      Token token;
      Block to;
      Operands arguments;
    };
    std::vector<Target> targets;
    bool good = true;
  };
  void plain(Pending& p);
  void conversion(Pending& p);
  void memory(Pending& p);
  void reserve(Pending& p);
  void address_of(Pending& p);
  void call(Pending& p);
  void go(Pending& p);
  void when(Pending& p);
  void give_back(Pending& p);
  void target(Pending& p);
  void trailing(Pending& p);
  Position position();
  bool number_after_colon(uint32_t& out);
  void finish(Pending& p, const std::vector<Token>& result_names);
  void define_results(const std::vector<Token>& names, Instruction i);
  bool settle_all(Pending& p, std::vector<Value>& values, std::vector<Type>& types);
  void infer_type(Pending& p, Type& inferred);

  void complain(const Token& t, std::string message, std::string expected) {
    good_ = false;
    cursor_.complain(t, std::move(message), std::move(expected));
  }
  void complain(std::string message, std::string expected) {
    complain(cursor_.peek(), std::move(message), std::move(expected));
  }
  Name name_of(const Token& t) {
    return module_.realm().name(t.kind == TokenKind::Quoted ? unquoted(cursor_.text(t))
                                                            : std::string(cursor_.text(t)));
  }

  ReadContext& context_;
  Module& module_;
  Cursor& cursor_;
  Function& function_;
  Pen pen_;
  TextMap::Body& places_;
  Position position_;
  std::vector<Function::Comment> waiting_comments_;
  size_t comment_ = 0;
  bool block_ended_ = true;
  bool untyped_told_ = false;  // once a statement is enough
  bool good_ = true;
};

}  // namespace porphyry::text
