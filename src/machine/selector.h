// The selector of one function, in three files: roots and blocks (select.cpp), what a rule's right side
// becomes (select_code.cpp), calls and arguments (select_calls.cpp).
#pragma once

#include <array>

#include "match.h"
#include "porphyry/analyze/dominators.h"
#include "porphyry/analyze/frequency.h"
#include "porphyry/machine/select.h"

namespace porphyry::machine {

class Selector {
 public:
  Selector(const Module& module, Symbol symbol, const RuleIndex& rules, std::pmr::memory_resource* memory,
           std::pmr::memory_resource* work);
  // Two stages of which a few functions may each take the first before the second.
  void match();
  Result<Selected> write();

 private:
  static constexpr uint32_t no_slot = 0xffffffff;
  struct Move {
    Register to, from;
  };
  // By variable of a rule, those of its pattern first.
  using RuleRegisters = std::array<Register, most_rule_variables>;

  Code& code() { return out_.code; }
  uint8_t class_of(Type t) const { return t.is_float() || t.has_lanes() ? 1 : 0; }
  void complain(Instruction i, const std::string& message);

  // select.cpp: which instructions are roots, blocks

  void need(Value v) { needed_[v] = true; }
  void need_address(Instruction access);
  const Rule& rule_of(const Match& m) const { return target_.rules[m.index]; }
  bool in_register(const Match& m, size_t variable) const;
  void mark_needed(Block b);
  void make_room();
  void rotate_loops();

  // select_code.cpp: addresses, writing machine code

  struct AddressParts {
    Value base, index;
    int64_t scale = 1, offset = 0;
    Anchor anchor = Anchor::None;
    uint32_t anchored = 0;
    Instruction reserve;
  };
  AddressParts address_parts(Instruction access) const;
  bool near(Instruction reserve, int64_t offset) const;
  void fold_anchor(AddressParts& p, Instruction d) const;
  int64_t add_address(const CodeAddress& a);
  CodeAddress code_address(Instruction access);
  uint32_t slot_of(Instruction reserve);
  uint32_t pool_entry(Value v);
  uint32_t pool_entry(const PoolEntry& entry);
  unsigned lane_taken(Instruction shuffle, unsigned place) const;
  PoolEntry shuffled_bytes(Instruction shuffle, bool second) const;
  int64_t shuffled_order(Instruction shuffle) const;

  CodeLine& put(FormIndex form, std::initializer_list<CodeOperand> operands);
  static CodeOperand reads(Register r) { return {OperandKind::Register, true, false, r, 0}; }
  static CodeOperand writes(Register r) { return {OperandKind::Register, false, true, r, 0}; }
  static CodeOperand label(uint32_t block) { return {OperandKind::Label, false, false, no_register, block}; }
  void copy(Register to, Register from);
  Register register_of(Value v);
  Register use(Value v);
  Register make_constant(Value v, Register into);
  int64_t constant_number(Value v) const;
  void apply(const Match& m, Instruction i);
  Register variable(const Match& m, int8_t k, RuleRegisters& registers, Register result);
  CodeOperand operand(const Match& m, const RuleSource& s, RuleRegisters& registers, Register result,
                      const FormOperand& shape);
  void emit(const Match& m, const RuleStep& step, RuleRegisters& registers, Register result);

  // select.cpp

  void number_blocks();
  void number_loops();
  void block(Block b);
  void make_early_constants();
  void instruction(Instruction i);
  FormIndex fetch_form_of(Register r) const;
  FormIndex save_form_of(Register r) const;
  static CodeOperand memory_operand(int64_t row, bool written);
  void take_parameters();

  // select_calls.cpp: calls, arguments of edges

  void pass(Instruction i, size_t first, std::span<const Type> types, CallInfo& info);
  std::pmr::vector<Type> types_of_operands(Instruction i, size_t first) const;
  RegisterMask lost_over_calls() const;
  void call(Instruction i);
  void count_floats(std::span<const Type> types, CallInfo& info);
  void leave(Instruction i);
  void give_back(Instruction i);
  void pass_arguments(Edge e);
  void parallel_copy(std::pmr::vector<Move>& moves);

  const Module& module_;
  const Function& f_;
  const RuleIndex& rules_;
  const Target& target_;
  std::pmr::memory_resource* memory_;
  Dominators dominators_;
  Loops loops_;
  Frequencies frequencies_;
  Matcher matcher_;
  FixedTable<Value, uint8_t> needed_;
  FixedTable<Value, Register> registers_;
  FixedTable<Instruction, uint32_t> slots_;
  FixedTable<Block, uint32_t> block_numbers_;
  std::pmr::vector<Block> layout_;
  FixedTable<Block, uint32_t> loop_numbers_;  // by header
  struct MadeConstant {
    uint32_t stretch = 0;  // of code: up to the next call or block
    Register reg = no_register;
  };
  FixedTable<Value, MadeConstant> constants_;
  uint32_t stretch_ = 0;
  FixedTable<Value, uint32_t> pooled_;          // row of the pool, plus one
  std::pmr::vector<uint32_t> pooled_literals_;  // rows of the pool
  std::pmr::vector<Value> early_constants_;
  struct RowOf {
    size_t variable;
    int64_t row;  // of addresses
  };
  std::array<RowOf, Match::most_variables> memory_rows_;  // of the rule at hand
  size_t memory_row_count_ = 0;
  Successors successors_;  // of the block at hand
  struct MoveRow {
    uint32_t readers = 0, writer = 0;  // moves still to read it; the one that writes it, plus one
  };
  std::pmr::vector<Move> moves_;
  std::pmr::vector<std::pair<Register, Value>> constant_moves_;
  std::pmr::vector<MoveRow> rows_;  // by virtual register; empty between edges
  std::pmr::vector<size_t> ready_;
  std::pmr::vector<uint8_t> done_;
  Instruction origin_;
  Diagnostics problems_;
  Selected out_;
};

}  // namespace porphyry::machine
