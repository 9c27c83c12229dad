// The readers of a function's body: of its structure (body_reader.cpp), of a statement (StatementReader:
// body_layouts.cpp, body_trailing.cpp) and its operands (OperandReader: body_operands.cpp), and what makes an
// instruction of a statement (InstructionMaker: body_instructions.cpp). A statement as it was written is a
// Pending; its lists are kept from statement to statement, so that reading allocates next to nothing.
#pragma once

#include "body_reader.h"
#include "porphyry/ir/typing.h"

namespace porphyry::text {

// An operand as written: a value, or a literal whose type may have to come from elsewhere.
struct Written {
  Token token;
  std::string_view literal;            // not empty: a literal, or the first of a list of lanes
  uint32_t first_lane = 0, lanes = 0;  // of a list {1, 2, 3}: where in lane_words_
  std::optional<Type> stated;          // 3:i32
  Value value;
  bool good = true;
};

// A block that a statement goes to.
struct WrittenTarget {
  Token token;
  Block to;
  size_t first_argument = 0, argument_count = 0;  // in Pending::arguments
  uint64_t weight = Function::no_weight;
};
// One statement. Lists are cleared, not freed, between statements.
struct Pending {
  Op op;
  Token word;
  std::vector<Written> written;  // in order of operands
  std::vector<Type> wanted;      // types known from elsewhere, by operand; may be shorter
  std::vector<Type> results;
  uint32_t detail = 0;
  Address address;
  CopyShape copy;
  bool has_align = false;
  bool untyped_told = false;    // that the type of a number is not known; once a statement is enough
  std::vector<uint16_t> lanes;  // of a shuffle
  struct Ways {
    std::vector<Written> cases;
    std::vector<WrittenTarget> targets;
    std::vector<Written> arguments;  // of all targets
  } ways;
  struct Said {  // behind the operands
    Position position;
    uint8_t promises = 0, permits = 0;
    Function::Hint hint = Function::Hint::None;
  } said;
  bool good = true;
  void clear();
};

// Lists that each statement uses again.
struct StatementTables {
  Pending pending{};
  std::vector<Token> result_names;
  std::vector<std::string_view> lane_words;  // of operands written as {1, 2, 3}
  std::vector<Value> values, argument_values;
  std::vector<Type> types;
  std::vector<Function::Draft::Destination> draft_targets;
  std::vector<Bits> case_values;
};

using Operands = std::vector<Written>;

// What the readers of one body share.
struct Body {
  ReadContext& context;
  Cursor& cursor;
  Function& function;
  StatementTables& tables;
  bool good = true;  // no mistake so far
};

class BodyPart {
 protected:
  explicit BodyPart(Body& body)
      : body_(body),
        context_(body.context),
        module_(body.context.module),
        cursor_(body.cursor),
        function_(body.function) {}

  void complain(const Token& t, std::string message, std::string expected) {
    body_.good = false;
    cursor_.complain(t, std::move(message), std::move(expected));
  }
  void complain(std::string message, std::string expected) {
    complain(cursor_.peek(), std::move(message), std::move(expected));
  }
  // A complaint, and false.
  bool refuse(const Token& t, std::string message, std::string expected) {
    complain(t, std::move(message), std::move(expected));
    return false;
  }
  // Something else has complained.
  bool fail() { return body_.good = false; }
  Name name_of(const Token& t) {
    if (t.kind == TokenKind::Quoted) return module_.realm().name(unquoted(cursor_.text(t)));
    return module_.realm().name(cursor_.text(t));
  }
  // What to expect in place of an unknown name: the nearest known one, when looking is worth the time.
  static std::string suggestion(std::string_view word, const std::vector<std::string>& names,
                                std::string what);

  Body& body_;
  ReadContext& context_;
  Module& module_;
  Cursor& cursor_;
  Function& function_;
};

class OperandReader : BodyPart {
 public:
  explicit OperandReader(Body& body) : BodyPart(body) {}

  Written operand();
  // A number or a word such as nan.
  void literal(Written& w);
  // Up to the closing bracket; false when that is missing.
  bool list(Operands& out);
  // [p + i*scale + offset]; false when it cannot be read.
  bool address(Operands& operands, Address& address);
  // The value of an operand whose type is now known, or known not to be; nothing, and a complaint, when there
  // is none.
  std::optional<Value> settle(Written& w, std::optional<Type> type, bool& untyped_told);
  void not_a_number(const Written& w, std::string_view literal, Type type);

 private:
  bool at_operand() const;
  void named(Written& w);
  void lane_list(Written& w);
  void unknown_value(const Token& token, Name name);
  std::optional<Value> settle_lanes(Written& w, Type type);
  bool address_part(Operands& operands, Address& address, bool& has_offset);
};

// Reads what follows the operation's word into a Pending whose word and operation are set.
class StatementReader : BodyPart {
 public:
  StatementReader(Body& body, OperandReader& operands, Pending& p)
      : BodyPart(body), operands_(operands), p_(p) {}
  void read();

 private:
  void by_layout();
  void by_roles();
  void lane_numbers();
  void reserve();
  void address_of();
  void call();
  void call_by_name();
  void call_through();
  void go();
  void when();
  void choose();
  void return_statement();
  void watch();
  bool target();
  const Signature* callee(const Token& token, std::string_view name);
  bool comma(std::string_view where);
  void trailing();
  void trailing_mask();
  Position position();
  bool number_after_colon(uint32_t& out);

  bool fail() { return p_.good = BodyPart::fail(); }
  bool refuse(const Token& t, std::string message, std::string expected) {
    return p_.good = BodyPart::refuse(t, std::move(message), std::move(expected));
  }
  bool arguments(Operands& out) { return operands_.list(out) || (p_.good = false); }

  OperandReader& operands_;
  Pending& p_;
};

// Makes the instruction that a statement says: types settle, rules are checked.
class InstructionMaker : BodyPart {
 public:
  InstructionMaker(Body& body, OperandReader& operands, Pen& pen, Pending& p)
      : BodyPart(body), operands_(operands), pen_(pen), p_(p), tables_(body.tables) {}
  // Nothing where the statement has a mistake. `block_ended`: no instruction can stand here.
  Instruction make(bool block_ended);

 private:
  bool settle_operands();
  bool settle_targets();
  bool settle_cases();
  Type inferred_type(const OperandRoles& roles) const;
  OperandForm form() const { return {p_.op == Op::Copy ? &p_.copy.to : &p_.address, &p_.copy.from}; }
  std::optional<Type> wanted_type(size_t operand, OperandRole role, Type inferred) const;
  Type masked_type() const;
  bool check_types();
  void check_result_count();
  Instruction put();
  bool refuse(const Token& t, std::string message, std::string expected) {
    return p_.good = BodyPart::refuse(t, std::move(message), std::move(expected));
  }

  OperandReader& operands_;
  Pen& pen_;
  Pending& p_;
  StatementTables& tables_;
};

// Labels and statements, in order.
class BodyReader : BodyPart {
 public:
  BodyReader(Body& body, size_t end, PlaceMap::Body& places)
      : BodyPart(body), pen_(module_, function_), operands_(body), places_(places), end_(end) {}
  uint32_t run(uint32_t comments_from);

 private:
  void make_room();
  void look_ahead();
  void gather_labels();
  void read_label_header();
  void label();
  void statement();
  bool result_names();
  void lone_comments();
  void define_results(Instruction i);

  Pen pen_;
  OperandReader operands_;
  PlaceMap::Body& places_;
  size_t end_;  // the token of the closing brace
  std::vector<Function::Comment> waiting_comments_;
  size_t ahead_ = 0;  // the token from which on names were not looked ahead to
  size_t comment_ = 0;
  bool block_ended_ = true;
};

}  // namespace porphyry::text
