// What the parts of the bookbinder share: the book so far, register names, notions, complaints.
#pragma once

#include <optional>

#include "book.h"

namespace porphyry::bind {

struct NamedRegister {
  uint8_t physical;
  uint8_t bits;
};

class Binder {
 public:
  explicit Binder(const SourceText& source) : source_(source) {}

  Result<BoundBook> run();

 private:
  friend class MeaningReader;
  friend class RuleReader;

  using WordList = Words;

  void complain(const Line& line, std::string message, std::string expected = "");
  std::optional<NamedRegister> register_named(const std::string& name) const;
  std::vector<uint8_t> register_list(const Line& line, const WordList& list, size_t from);
  int class_named(const std::string& name) const;
  uint8_t register_count() const;

  void at_most(const Line& line, const char* what, size_t count, size_t most);
  void settings(const Entry& entry);
  void registers(const Entry& entry);
  void convention(const Entry& entry);
  void upkeep(const Entry& entry);
  void encodings(const Entry& entry);
  void address(const Line& line, const WordList& w);
  void issue(const Line& line, const WordList& w);
  void units(const Line& line, const WordList& w);
  void layout(const Line& line, const WordList& w);
  Type address_type() const { return Type::integer(book_.layout.pointer_bits); }
  void instruction(const Entry& entry);
  void cost(const Line& line, const WordList& w, BoundForm& form);
  bool form(const Line& line, BoundForm& form);
  bool operand(const Line& line, const WordList& w, size_t& at, BoundForm& form);
  bool encoding(const Line& line, const WordList& w, size_t at, BoundForm& form);
  void meaning(const Line& where, const std::vector<Line>& lines, BoundForm& form);
  void group_forms();
  void sort_rules();

  // The general form of a name for operands of these kinds; see rules.cpp.
  struct Wanted {
    machine::OperandKind kind;
    int register_class = -1;
    int physical = -1;
  };
  machine::FormIndex find_form(const std::string& name, const std::vector<Wanted>& wanted) const;

  const SourceText& source_;
  Diagnostics problems_;
  BoundBook book_;
  std::map<std::string, NamedRegister> register_names_;
  std::map<std::string, Entry> notions_;
  struct EncodingShape {
    uint8_t kind;                  // in the order of the book
    std::vector<bool> is_operand;  // what stands behind its name: operands and numbers
  };
  std::map<std::string, EncodingShape> encodings_;
  std::map<std::string, std::vector<machine::FormIndex>> by_name_;
};

// iN of any width up to 128, f32, f64.
std::optional<Type> type_named(const std::string& word);

}  // namespace porphyry::bind
