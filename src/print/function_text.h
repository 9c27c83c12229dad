// Writes functions and their parts.
#pragma once

#include <string>
#include <unordered_map>
#include <unordered_set>
#include <vector>

#include "porphyry/ir/module.h"
#include "porphyry/print/print.h"

namespace porphyry::text {

// Marks, permits, inlining and so on, each with a blank before it.
std::string facts_text(const FunctionFacts& facts);
std::string signature_text(const Signature& signature, const FunctionFacts& facts);

class FunctionWriter {
 public:
  FunctionWriter(const Module& module, const Function& function, bool columns = true)
      : module_(module), function_(function), columns_(columns) {}

  void write(std::string& out, Symbol symbol);
  std::string instruction(Instruction i);
  std::string value(Value v);
  std::string block(Block b);

 private:
  struct Line {
    Instruction at;
    std::string results, body, position;
  };

  Value operand(Instruction i, size_t k) const;
  bool is_literal(Value v) const;
  Type type(Value v) const;
  std::string typed(Value v);
  std::string list(Instruction i, size_t from, bool all_typed = false, size_t typed_from = ~size_t(0));
  std::string plain_operands(Instruction i, size_t first, size_t last);
  std::string operands(Instruction i);
  std::string operand_text(Instruction i, size_t k, OperandRole role);
  std::string lane_numbers(Instruction i);
  std::string address(const Address& a, Instruction i, size_t from);
  std::string access(Instruction i, size_t from);
  std::string call(Instruction i);
  std::string call_through(Instruction i);
  std::string target(Edge e, bool weighted);
  std::string when(Instruction i);
  std::string choose(Instruction i);
  std::string results(Instruction i);
  std::string body(Instruction i);
  std::string said_of(Instruction i);
  void block_lines(std::string& out, Block b);
  void comments_above(std::string& out, Instruction i);
  std::string free_name(char letter, uint32_t index, bool for_block);
  void gather_names();

  const Module& module_;
  const Function& function_;
  const bool columns_;
  std::unordered_set<std::string_view> taken_values_, taken_blocks_;
  bool gathered_ = false;
  std::unordered_map<uint32_t, std::vector<size_t>> instruction_comments_, label_comments_;
};

}  // namespace porphyry::text
