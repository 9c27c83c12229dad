// Writes machine code line by line: which register a value is in, constants made where they are used, copies.
#pragma once

#include "constants.h"
#include "cover.h"
#include "porphyry/machine/code.h"

namespace porphyry::machine {

inline CodeOperand reads(Register r) { return {OperandKind::Register, true, false, Part::Whole, r, 0}; }
inline CodeOperand writes(Register r) { return {OperandKind::Register, false, true, Part::Whole, r, 0}; }
inline CodeOperand label(uint32_t block) {
  return {OperandKind::Label, false, false, Part::Whole, no_register, block};
}
inline CodeOperand memory(int64_t row, bool written) {
  return {OperandKind::Memory, !written, written, Part::Whole, no_register, row};
}
inline uint8_t class_of(Type t) { return t.is_float() || t.has_lanes() ? 1 : 0; }

class CodeWriter {
 public:
  CodeWriter(const Function& f, const RuleIndex& rules, const Matcher& matcher, Code& code,
             std::pmr::memory_resource* work)
      : f(f),
        target(rules.target()),
        rules(rules),
        code(code),
        pool(f, code.pool, work),
        matcher_(matcher),
        registers_(f.value_limit(), work, no_register),
        constants_(f.value_limit(), work),
        slots_(work) {}

  const Function& f;
  const Target& target;
  const RuleIndex& rules;
  Code& code;
  ConstantPool pool;
  Instruction origin;  // of the IR, noted with each line

  CodeLine& put(FormIndex form, std::span<const CodeOperand> operands);
  CodeLine& put(FormIndex form, std::initializer_list<CodeOperand> operands) {
    return put(form, std::span(operands.begin(), operands.size()));
  }
  void copy(Register to, Register from);

  // The register that is a value's own.
  Register register_of(Value v);
  bool has_register(Value v) const { return registers_[v] != no_register; }
  // `v`, which has no register, is in that of another value from here on.
  void shares(Value v, Register r) { registers_[v] = r; }
  // The register a value is in; a constant without one of its own is made on the spot, once a stretch.
  Register use(Value v);
  // Constants made before a call or another block are not used behind it.
  void begin_stretch() { ++stretch_; }
  // By the cheapest rule that makes it, into the register given or into a new one; in rule_writer.cpp.
  Register make_constant(Value v, Register into = no_register);

  int64_t add_address(const CodeAddress& a);
  // What an access touches.
  CodeAddress address_of(Instruction access);

 private:
  uint32_t slot_of(Instruction reserve);
  static constexpr uint32_t no_slot = 0xffffffff;

  const Matcher& matcher_;
  FixedTable<Value, Register> registers_;
  struct MadeConstant {
    uint32_t stretch = 0;
    Register reg = no_register;
  };
  FixedTable<Value, MadeConstant> constants_;
  uint32_t stretch_ = 0;  // of code: up to the next call or block
  FixedTable<Instruction, uint32_t> slots_;
};

// What the right side of a rule becomes, for an instruction that its pattern covers, in a block from which
// control goes where `ways` says.
struct Ways {
  Successors successors = {};
  uint32_t table = none;
};
void write_rule(CodeWriter& w, const Match& m, Instruction i, const Ways& ways);

}  // namespace porphyry::machine
