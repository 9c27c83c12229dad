// The reader of function bodies, one class in four files: structure (body_reader.cpp), operands
// (body_operands.cpp), what follows each operation word (body_layouts.cpp), making instructions
// (body_instructions.cpp). What one statement needs is kept from statement to statement, so that reading
// allocates next to nothing.
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
  std::vector<uint16_t> lanes;  // of a shuffle
  std::vector<Written> cases;
  std::vector<WrittenTarget> targets;
  std::vector<Written> arguments;  // of all targets
  uint8_t promises = 0, permits = 0;
  Function::Hint hint = Function::Hint::None;
  bool good = true;
  void clear();
};

struct StatementTables {
  Pending pending{};
  std::vector<Token> result_names;
  std::vector<std::string_view> lane_words;
  std::vector<Value> values, argument_values;
  std::vector<Type> types;
  std::vector<Function::Draft::Destination> draft_targets;
  std::vector<Bits> case_values;
};

class BodyReader {
 public:
  BodyReader(ReadContext& context, Cursor& cursor, Symbol symbol, size_t end, PlaceMap::Body& places)
      : context_(context),
        module_(context.module),
        cursor_(cursor),
        function_(module_.function(symbol)),
        pen_(module_, function_),
        places_(places),
        end_(end) {}

  uint32_t run(uint32_t comments_from);

 private:
  using Operands = std::vector<Written>;

  // structure
  void make_room();
  void look_ahead();
  void gather_labels();
  void read_label_header();
  void label();
  void statement();
  bool result_names();
  void lone_comments();

  // operands
  Written operand();
  void named(Written& w);
  void literal(Written& w);
  void lane_list(Written& w);
  bool at_operand() const;
  void operand_list(Operands& out);  // up to the closing bracket
  std::optional<Value> settle(Written& w, std::optional<Type> type);
  std::optional<Value> settle_lanes(Written& w, Type type);
  void not_a_number(const Written& w, std::string_view literal, Type type);
  bool read_address(Operands& operands, Address& address);
  bool address_part(Operands& operands, Address& address, bool& has_offset);
  void unknown_value(const Token& token, Name name);
  std::string suggestion(std::string_view word, const std::vector<std::string>& names, std::string what);

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
  void return_values();
  void watch();
  bool target();
  const Signature* callee(const Token& token, std::string_view name);
  bool comma(std::string_view where);

  void trailing();
  void trailing_mask();
  Position position();
  bool number_after_colon(uint32_t& out);

  void finish();
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
  void define_results(Instruction i);

  bool fail() { return p_.good = good_ = false; }
  bool refuse(const Token& t, std::string message, std::string expected) {
    complain(t, std::move(message), std::move(expected));
    return p_.good = false;
  }
  void complain(const Token& t, std::string message, std::string expected) {
    good_ = false;
    cursor_.complain(t, std::move(message), std::move(expected));
  }
  void complain(std::string message, std::string expected) {
    complain(cursor_.peek(), std::move(message), std::move(expected));
  }
  Name name_of(const Token& t) {
    if (t.kind == TokenKind::Quoted) return module_.realm().name(unquoted(cursor_.text(t)));
    return module_.realm().name(cursor_.text(t));
  }
  bool names_a_value(const Token& t) { return context_.names.has_value(name_of(t)); }

  ReadContext& context_;
  Module& module_;
  Cursor& cursor_;
  Function& function_;
  Pen pen_;
  PlaceMap::Body& places_;
  size_t end_;  // the token of the closing brace

  StatementTables& scratch_ = *context_.scratch;
  Pending& p_ = scratch_.pending;
  std::vector<Token>& result_names_ = scratch_.result_names;
  std::vector<std::string_view>& lane_words_ = scratch_.lane_words;
  std::vector<Value>&values_ = scratch_.values, &argument_values_ = scratch_.argument_values;
  std::vector<Type>& types_ = scratch_.types;
  std::vector<Function::Draft::Destination>& draft_targets_ = scratch_.draft_targets;
  std::vector<Bits>& case_values_ = scratch_.case_values;
  Position position_;
  std::vector<Function::Comment> waiting_comments_;
  size_t ahead_ = 0;  // the token from which on names were not looked ahead to
  size_t comment_ = 0;
  bool block_ended_ = true;
  bool untyped_told_ = false;  // once a statement is enough
  bool good_ = true;
};

}  // namespace porphyry::text
