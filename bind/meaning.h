// The lines below `means`: a straight line of the IR's operations over operands, registers and flags.
#pragma once

#include "binder.h"

namespace porphyry::bind {

class MeaningReader {
 public:
  MeaningReader(Binder& binder, const Line& where, BoundForm& form)
      : binder_(binder), where_(where), form_(form) {}
  void run(const std::vector<Line>& lines, unsigned depth = 0);

 private:
  using WordList = Words;

  void statement(const Line& line, const WordList& w);
  void assignment(const Line& line, const WordList& w);
  void notion(const Line& line, const Entry& notion, const WordList& w, unsigned depth);
  machine::Term source(const Line& line, const std::string& word);
  machine::Term destination(const Line& line, const std::string& word, Type type);
  std::optional<Type> one_type(const Line& line, Op op, std::span<machine::Term> arguments, Type stated);
  static Type result_of(Op op, Type operand, Type stated);
  machine::Term address(const Line& line, const WordList& w, size_t at);
  void add(machine::MeaningStep step);
  void noted_read(const machine::Term& p);

  Binder& binder_;
  const Line& where_;
  BoundForm& form_;
  std::map<std::string, machine::Term> temporaries_;
  uint8_t temporary_count_ = 0;
};

}  // namespace porphyry::bind
