// The bookbinder: reads a book and writes the tables of machine/target.h as C++.
//
// Three plain stages: lines are gathered into entries and repeated for every tuple of their `each` lines
// (pages.h), entries become instructions and rules (book.h), and those are written out (tables.h).
#pragma once

#include <map>
#include <string>
#include <vector>

#include "pages.h"
#include "porphyry/machine/target.h"

namespace porphyry::bind {

// The same things as in machine/target.h, owning their parts.
struct BoundForm : machine::FormFacts {
  std::string name, spelling, opposite_name;
  std::vector<std::string> operand_names;
  std::vector<machine::FormOperand> operands;
  std::vector<machine::EncodingStep> encoding;
  std::vector<machine::MeaningStep> meaning;
  machine::Features needs = 0;
  uint8_t latency = 1;
  uint16_t cost = 10;
  uint8_t unit = machine::no_unit, busy = 1;
};

struct BoundUnit {
  std::string name;
  uint8_t count = 1;
};

struct BoundNode : machine::PatternNode {
  std::vector<uint8_t> shuffled;  // PatternNode::lanes
};

struct BoundRule : machine::RuleFacts {
  std::string name;
  std::vector<BoundNode> nodes;
  std::vector<machine::RuleStep> steps;
  std::vector<machine::VariableShape> variables;
  bool matches_constant = false;
};

struct BoundClass {
  std::string name;
  uint8_t first = 0, count = 0, bits = 64;
  struct View {
    uint8_t bits;
    machine::Rest rest;
    std::vector<std::string> names;
  };
  std::vector<View> views;
};

struct BoundAddress {
  std::vector<uint8_t> scales;
  uint8_t offset_bits = 32;
  bool symbols = false;
};

struct BoundConvention {
  std::string name;
  std::vector<uint8_t> whole, floats, whole_results, float_results;
  machine::RegisterSet kept, reserved;
  uint8_t stack = 0, stack_align = 16, scratch = 0;
  int8_t float_count = -1, return_address = -1, far = -1;
};

struct BoundUpkeep {
  std::vector<machine::MoveForm> moves;
  std::vector<machine::SpillForm> spills;
  machine::RegisterSet longer;
  std::vector<std::pair<std::string, machine::FormIndex>> forms;  // further fields of machine::Upkeep
};

struct BoundBook {
  std::string name;
  std::vector<std::string> features, flags;
  machine::Features usual = 0;
  std::vector<BoundClass> classes;
  MemoryLayout layout;
  uint8_t lower_bits = 0;
  uint8_t issue = 1;
  uint16_t window = 1;
  std::vector<BoundUnit> units;
  BoundAddress address;
  BoundConvention convention;
  BoundUpkeep upkeep;
  std::vector<BoundForm> forms;  // by FormIndex; the first ones are empty
  std::vector<BoundRule> rules;  // as machine::Book has them
};

// Reads a whole book; every mistake of it is reported with its line.
Result<BoundBook> read_book(const SourceText& source);

// Fills in what machine::Form says of flags.
void find_flags_of_results(std::vector<BoundForm>& forms, size_t flag_count);

// What machine::Rule says besides; see rule_facts.cpp, ways.cpp.
machine::RuleFacts facts_of(const BoundRule& rule, const std::vector<BoundForm>& forms);
machine::Covered covered_by(const BoundRule& rule);

// The C++ file with the book's tables. `identifier` names the function that gives them out.
std::string write_tables(const BoundBook& book, const std::string& identifier);

}  // namespace porphyry::bind
