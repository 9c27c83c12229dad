// Entries `rule`: a pattern in the IR's own text, and below `becomes` the instructions that do the same.
#pragma once

#include "binder.h"

namespace porphyry::bind {

class RuleReader {
 public:
  RuleReader(Binder& binder, const Entry& entry) : binder_(binder), entry_(entry) {}
  std::optional<BoundRule> run();

 private:
  using WordList = Words;

  struct Argument {
    std::string name;  // a name, or empty
    std::optional<int64_t> number;
    bool memory = false;
    Type type;
  };
  struct Statement {
    Line line;
    std::string result;
    bool is_constant = false;  // `literal k:i32`
    Op op = Op::Add;
    std::vector<Argument> arguments;
    std::vector<uint8_t> lanes;  // shuffle
    Type operand, type;          // of operands and of the result
  };
  struct Variable {
    int8_t index;
    bool is_constant = false, is_memory = false;
    Type type;                // of a value of the pattern
    int register_class = -1;  // known at the latest when it is written
  };
  // What one operand of an instruction on the right is given.
  struct Given {
    machine::RuleSource source;
    machine::OperandKind kind;
    int register_class = -1;
  };

  void condition(const Line& line, const WordList& w);
  void pattern(const Line& line, const WordList& w);
  void arguments(const Line& line, const WordList& w, size_t at, Statement& s);
  void type_of(Statement& s, Type stated);
  void note_variable(const Line& line, const Statement& s, const Argument& a);
  int8_t node(const Statement& s);
  int8_t leaf(const Argument& a, Type type);
  Variable& variable(const std::string& name);
  void right(const Line& line, const WordList& w);
  std::optional<Given> given(const Line& line, const WordList& w);
  std::optional<Given> part(const Line& line, const WordList& w);
  std::optional<Given> in_brackets(const Line& line, const WordList& w);
  bool fit_form(const BoundForm& form, const std::vector<Given>& ins, const std::optional<Given>& out,
                machine::RuleStep& step) const;
  void copy(const Line& line, const std::string& to, const std::string& from);
  Given place(const std::string& name);
  static int class_of(Type type) { return type.is_float() || type.has_lanes() ? 1 : 0; }
  bool fail(const Line& line, std::string message, std::string expected = "") {
    good_ = false;
    binder_.complain(line, std::move(message), std::move(expected));
    return false;
  }

  Binder& binder_;
  const Entry& entry_;
  BoundRule out_;
  std::map<std::string, Variable> variables_;
  std::map<std::string, BoundNode> fits_;
  std::vector<Statement> statements_;
  bool good_ = true;
};

}  // namespace porphyry::bind
