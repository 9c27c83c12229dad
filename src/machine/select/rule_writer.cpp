// What a rule's right side becomes: registers for its variables, addresses, constants, instructions.
#include "code_writer.h"
#include "porphyry/ir/compute.h"
#include "porphyry/machine/legalize.h"
#include "wanted.h"

namespace porphyry::machine {
namespace {

int64_t constant_number(const Function& f, Value v) {
  unsigned spare = 64 - carrier(f.type(v)).bits();
  return static_cast<int64_t>(f.constant_bits(v) << spare) >> spare;
}

// One use of a rule.
class RuleUse {
 public:
  RuleUse(CodeWriter& w, const Match& m, Register result, const Ways& ways)
      : w_(w), m_(m), rule_(w.target.rules[m.index]), result_(result), ways_(ways) {
    registers_.fill(no_register);
  }

  // What the pattern's variables stand for, into registers and addresses.
  void bind() {
    uint16_t in_register = w_.rules.facts(m_.index).in_register;
    for (size_t k = 0; k < Match::most_variables; ++k)
      if (Value v = m_.value(k);
          v.exists() && static_cast<int>(k) != rule_.nodes[0].variable && (in_register >> k & 1))
        registers_[k] = w_.use(v);
    for (size_t k = 0; k < Match::most_variables; ++k) {
      if (m_.access(k).exists()) memory_[k] = w_.add_address(w_.address_of(m_.access(k)));
      if (m_.is_pooled(k)) memory_[k] = pooled(w_.pool.of(m_.value(k)));
    }
  }

  void set_result(Register r) { result_ = r; }
  // For a rule that does nothing but copy a value into a result of the same width: the value's register.
  Register only_copied(Value result) const {
    if (rule_.steps.size() != 1) return no_register;
    const RuleStep& first = rule_.steps[0];
    if (first.form != copy_form || first.in[0].kind != SourceKind::Variable ||
        first.out[0].kind != SourceKind::Variable)
      return no_register;
    const Value v = value_of(first.in[0]);
    const bool alike = v.exists() && !w_.f.is_constant(v) &&
                       carrier(w_.f.type(v)).total_bits() == carrier(w_.f.type(result)).total_bits();
    return alike ? registers_[static_cast<size_t>(first.in[0].variable)] : no_register;
  }
  void write() {
    for (const RuleStep& step : rule_.steps) one(step);
  }

 private:
  int64_t pooled(uint32_t row) { return w_.add_address({.anchor = Anchor::Pool, .anchored = row}); }

  void one(const RuleStep& step) {
    static constexpr FormOperand in_shape{OperandKind::Register, 0, Type(), true, false},
        out_shape{OperandKind::Register, 0, Type(), false, true};
    if (step.form == copy_form) {
      Register from = operand(step.in[0], in_shape).reg;
      return w_.copy(operand(step.out[0], out_shape).reg, from);
    }
    const Form& form = w_.target.form(step.form);
    if (form.opposite && turns(step, form)) return turned(step, form);
    CodeOperand operands[4];
    std::pair<Register, Register> copied = {no_register, no_register};
    for (size_t k = 0; k < form.operands.size(); ++k) {
      const FormOperand& shape = form.operands[k];
      if (step.out[k].kind == SourceKind::None) {
        operands[k] = operand(step.in[k], shape);
        continue;
      }
      operands[k] = operand(step.out[k], shape);
      if (!shape.read) continue;
      const Register from = operand(step.in[k], in_shape).reg;
      w_.copy(operands[k].reg, from);
      if (is_lost(step.in[k])) copied = {from, operands[k].reg};
    }
    // What is read besides being overwritten is read where it was copied to, and not wanted behind the copy.
    for (size_t k = 0; k < form.operands.size(); ++k)
      if (CodeOperand& o = operands[k]; o.kind == OperandKind::Register && o.read && !o.written &&
                                        o.reg != no_register && o.reg == copied.first)
        o.reg = copied.second;
    w_.put(step.form, std::span(operands, form.operands.size()));
  }

  // Of the pattern; nothing for a temporary.
  Value value_of(const RuleSource& variable) const {
    const auto k = static_cast<size_t>(variable.variable);
    return k < Match::most_variables ? m_.value(k) : Value();
  }
  // Whether nothing but this use of the rule reads a variable.
  bool is_lost(const RuleSource& s) const {
    if (s.kind != SourceKind::Variable) return false;
    const Value v = value_of(s);
    return !v.exists() ||
           (!w_.f.is_constant(v) && w_.f.has_one_use(v) && w_.f.defining_block(v) == w_.f.block(w_.origin));
  }
  // Of an instruction whose opposite does the same with its two registers exchanged: whether the second one
  // is better overwritten than the first.
  bool turns(const RuleStep& step, const Form& form) const {
    if (form.is_jump || form.operands.size() != 2 || step.out[0].kind != SourceKind::Variable ||
        step.in[0].kind != SourceKind::Variable || step.in[1].kind != SourceKind::Variable)
      return false;
    const Value first = value_of(step.in[0]), second = value_of(step.in[1]);
    if (!first.exists() || !second.exists()) return false;
    return loss_of(w_.f, second, w_.origin) < loss_of(w_.f, first, w_.origin);
  }
  void turned(const RuleStep& step, const Form& form) {
    static constexpr FormOperand in_shape{OperandKind::Register, 0, Type(), true, false};
    CodeOperand operands[2] = {operand(step.out[0], form.operands[0]), operand(step.in[0], form.operands[1])};
    w_.copy(operands[0].reg, operand(step.in[1], in_shape).reg);
    w_.put(form.opposite, operands);
  }

  // The register of a variable on the right; temporaries get theirs on first sight.
  Register variable(int8_t k) {
    if (k == rule_.nodes[0].variable && !rule_.matches_constant) return result_;
    Register& r = registers_[static_cast<size_t>(k)];
    if (r == no_register) {
      // A constant's rule names the constant, if it does, then the result.
      bool is_result = rule_.matches_constant && k == (rule_.nodes[0].variable >= 0 ? 1 : 0);
      const VariableShape& shape = rule_.variables[static_cast<size_t>(k)];
      r = is_result ? result_ : w_.code.new_register(shape.register_class, shape.bits);
    }
    return r;
  }

  int64_t number_of(int8_t variable) const {
    return constant_number(w_.f, m_.value(static_cast<size_t>(variable)));
  }

  int64_t masked_number_of(int8_t variable) const {
    int64_t out = number_of(variable);
    for (const PatternNode& n : rule_.nodes)
      if (n.variable == variable && n.fit == Fit::Masked) out &= static_cast<int64_t>(n.literal);
    return out;
  }

  int64_t part_of_number(int64_t number, Part part) const {
    if (part == Part::Whole) return number;
    uint64_t word = static_cast<uint64_t>(number) & static_cast<uint64_t>(mask_of(w_.target.word_bits));
    return static_cast<int64_t>(part_of(word, part, w_.target.lower_bits));
  }

  int64_t built_address(const RuleSource& s) {
    CodeAddress a{.scale = s.scale};
    if (s.variable >= 0) a.base = variable(s.variable);
    if (s.index >= 0) a.index = variable(s.index);
    if (s.constant >= 0) a.displacement = number_of(s.constant);
    return w_.add_address(a);
  }

  CodeOperand operand(const RuleSource& s, const FormOperand& shape) {
    CodeOperand o{shape.kind, shape.read, shape.written, s.part, no_register, 0};
    switch (s.kind) {
      case SourceKind::Variable: o.reg = variable(s.variable); break;
      case SourceKind::Physical: o.reg = s.physical; break;
      case SourceKind::Number: o.value = s.number; break;
      case SourceKind::Constant:
        o.part = Part::Whole;
        o.value = part_of_number(masked_number_of(s.variable), s.part);
        break;
      case SourceKind::Memory: o.value = memory_[static_cast<size_t>(s.variable)]; break;
      case SourceKind::Built: o.value = built_address(s); break;
      case SourceKind::Pool: o.value = pooled(w_.pool.of(m_.value(static_cast<size_t>(s.variable)))); break;
      case SourceKind::PoolLiteral:
        o.value = pooled(w_.pool.of(repeated(s.type, static_cast<Bits>(s.number))));
        break;
      case SourceKind::Order: o.value = shuffled_order(w_.f, w_.origin); break;
      case SourceKind::FirstBytes:
        o.value = pooled(w_.pool.of(shuffled_bytes(w_.f, w_.origin, false)));
        break;
      case SourceKind::SecondBytes:
        o.value = pooled(w_.pool.of(shuffled_bytes(w_.f, w_.origin, true)));
        break;
      case SourceKind::Yes: o.value = ways_.successors[0]; break;
      case SourceKind::No: o.value = ways_.successors[1]; break;
      case SourceKind::Table:
        o.value = w_.add_address({.anchor = Anchor::Table, .anchored = ways_.table});
        break;
      case SourceKind::None: break;
    }
    return o;
  }

  CodeWriter& w_;
  const Match& m_;
  const Rule& rule_;
  Register result_;
  const Ways& ways_;
  std::array<Register, most_rule_variables> registers_;     // by variable, those of the pattern first
  std::array<int64_t, Match::most_variables> memory_ = {};  // by variable: its row of addresses
};

}  // namespace

void write_rule(CodeWriter& w, const Match& m, Instruction i, const Ways& ways) {
  RuleUse use(w, m, no_register, ways);
  use.bind();
  if (w.f.result_count(i)) {
    const Value result = w.f.result(i);
    if (const Register r = use.only_copied(result); is_virtual(r) && !w.has_register(result))
      return w.shares(result, r);
    use.set_result(w.register_of(result));
  }
  use.write();
}

Register CodeWriter::make_constant(Value v, Register into) {
  auto m = matcher_.constant(v);
  Register r = into;
  if (r == no_register)
    r = code.new_register(class_of(f.type(v)), static_cast<uint8_t>(carrier(f.type(v)).total_bits()), v);
  RuleUse(*this, *m, r, Ways()).write();
  return r;
}

}  // namespace porphyry::machine
