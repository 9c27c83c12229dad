// What a rule's right side becomes: addresses, registers, constants, instructions.
#include <algorithm>

#include "porphyry/ir/compute.h"
#include "porphyry/machine/legalize.h"
#include "selector.h"

namespace porphyry::machine {

void Selector::need_address(Instruction access) {
  AddressParts p = address_parts(access);
  if (p.base.exists()) need(p.base);
  if (p.index.exists()) need(p.index);
}

// The parts of an address, `at` and frame slots and symbols below it folded in.
Selector::AddressParts Selector::address_parts(Instruction access) const {
  AddressParts p;
  Op op = f_.op(access);
  if (op == Op::Reserve || op == Op::AddressOf) {
    fold_anchor(p, access);
    return p;
  }
  size_t base = op == Op::Store ? 1 : 0;
  const Address& a = f_.address(access);
  p.base = f_.operand(access, base);
  p.offset = a.offset;
  p.scale = a.scale;
  if (a.indexed) p.index = f_.operand(access, base + 1);
  for (Instruction d = f_.definition(p.base); d.exists();
       d = p.base.exists() ? f_.definition(p.base) : Instruction()) {
    if (f_.op(d) == Op::At) {
      const Address& below = f_.address(d);
      int64_t sum = p.offset + below.offset;
      if ((below.indexed && p.index.exists()) || sum != static_cast<int32_t>(sum)) break;
      if (below.indexed) p.index = f_.operand(d, 1), p.scale = below.scale;
      p.offset = sum;
      p.base = f_.operand(d, 0);
    } else {
      if ((f_.op(d) == Op::Reserve && near(d, p.offset)) || (f_.op(d) == Op::AddressOf && !p.index.exists()))
        fold_anchor(p, d);
      break;
    }
  }
  if (p.index.exists() && f_.is_constant(p.index)) {
    int64_t sum = p.offset + static_cast<int64_t>(f_.constant_bits(p.index)) * p.scale;
    if (p.reserve.exists() ? near(p.reserve, sum) : sum == static_cast<int32_t>(sum))
      p.offset = sum, p.index = {};
  }
  return p;
}

// An offset far outside of a frame object might not fit once the object has its place.
bool Selector::near(Instruction reserve, int64_t offset) const {
  return std::abs(offset) <= static_cast<int64_t>(f_.reserve_shape(reserve).bytes) + 4096;
}

void Selector::fold_anchor(AddressParts& p, Instruction d) const {
  p.base = {};
  p.reserve = f_.op(d) == Op::Reserve ? d : Instruction();
  p.anchor = p.reserve.exists() ? Anchor::Slot : Anchor::Symbol;
  if (!p.reserve.exists()) p.anchored = f_.symbol(d).index;
}

int64_t Selector::add_address(const CodeAddress& a) {
  code().addresses.push_back(a);
  return static_cast<int64_t>(code().addresses.size() - 1);
}

CodeAddress Selector::code_address(Instruction access) {
  AddressParts p = address_parts(access);
  CodeAddress a{.scale = static_cast<uint8_t>(p.scale),
                .anchor = p.anchor,
                .anchored = p.anchored,
                .displacement = p.offset};
  if (p.reserve.exists()) a.anchored = slot_of(p.reserve);
  if (p.base.exists()) a.base = use(p.base);
  if (p.index.exists()) a.index = use(p.index);
  return a;
}

uint32_t Selector::slot_of(Instruction reserve) {
  if (slots_.empty()) slots_.make(f_.instruction_limit(), no_slot);
  uint32_t& slot = slots_[reserve];
  if (slot == no_slot) {
    const ReserveShape& shape = f_.reserve_shape(reserve);
    slot = static_cast<uint32_t>(code().slots.size());
    code().slots.push_back({std::max<uint64_t>(shape.bytes, 1), shape.align, 0});
  }
  return slot;
}

namespace {

// A constant of a scalar or of lanes as it lies in memory.
template <class Lane>
PoolEntry side_by_side(Type t, Lane lane) {
  Word all = 0;
  for (unsigned k = 0; k < t.lanes(); ++k) all |= (lane(k) & mask_of(t.bits())) << (k * t.bits());
  return {static_cast<uint64_t>(all), static_cast<uint8_t>(t.bytes()), static_cast<uint64_t>(all >> 64), t};
}

}  // namespace

// The lane that comes to a place; where both values are one, by its number in that.
unsigned Selector::lane_taken(Instruction shuffle, unsigned place) const {
  unsigned lane = f_.shuffle_lane(shuffle, place);
  return f_.operand(shuffle, 0) == f_.operand(shuffle, 1) ? lane % f_.type(f_.operand(shuffle, 0)).lanes()
                                                          : lane;
}

// The number of the byte that comes to each place, from the first value or the second.
PoolEntry Selector::shuffled_bytes(Instruction shuffle, bool second) const {
  Type t = f_.type(f_.result(shuffle));
  unsigned size = t.element_bytes();
  return side_by_side(Type::integer(8).with_lanes(t.bytes()), [&](unsigned at) {
    unsigned lane = lane_taken(shuffle, at / size), from = second ? lane - t.lanes() : lane;
    return Word(from < t.lanes() ? from * size + at % size : 128);
  });
}

int64_t Selector::shuffled_order(Instruction shuffle) const {
  Type t = f_.type(f_.result(shuffle));
  unsigned each = t.element_bytes() / 4;
  int64_t order = 0;
  for (unsigned at = 0; at < 4; ++at)
    order |= int64_t(lane_taken(shuffle, at / each) * each + at % each) << (2 * at);
  return order;
}

uint32_t Selector::pool_entry(Value v) {
  if (pooled_.empty()) pooled_.make(f_.value_limit());
  uint32_t& row = pooled_[v];
  if (row == 0) {
    code().pool.push_back(side_by_side(f_.type(v), [&](unsigned lane) { return f_.constant_word(v, lane); }));
    row = static_cast<uint32_t>(code().pool.size());
  }
  return row - 1;
}

// What rules bring along: a few.
uint32_t Selector::pool_entry(const PoolEntry& entry) {
  for (uint32_t row : pooled_literals_)
    if (code().pool[row] == entry) return row;
  code().pool.push_back(entry);
  pooled_literals_.push_back(static_cast<uint32_t>(code().pool.size() - 1));
  return pooled_literals_.back();
}

CodeLine& Selector::put(FormIndex form, std::initializer_list<CodeOperand> operands) {
  CodeLine i{.form = form,
             .operand_count = static_cast<uint8_t>(operands.size()),
             .first_operand = static_cast<uint32_t>(code().operands.size()),
             .origin = origin_};
  code().operands.insert(code().operands.end(), operands.begin(), operands.end());
  code().code.push_back(i);
  return code().code.back();
}

void Selector::copy(Register to, Register from) {
  if (to == from) return;
  CodeOperand out = writes(to);
  out.value = is_virtual(to) ? code().shape(to).bits : is_virtual(from) ? code().shape(from).bits : 64;
  put(copy_form, {out, reads(from)}).role = Role::Move;
}

Register Selector::register_of(Value v) {
  Register& r = registers_[v];
  if (r == no_register)
    r = code().new_register(class_of(f_.type(v)), static_cast<uint8_t>(carrier(f_.type(v)).total_bits()), v);
  return r;
}

// The register a value is in; constants are made on the spot, once a block.
Register Selector::use(Value v) {
  if (!f_.is_constant(v) || registers_[v] != no_register) return register_of(v);
  MadeConstant& made = constants_[v];
  if (made.stretch != stretch_) made = {stretch_, make_constant(v, no_register)};
  return made.reg;
}

Register Selector::make_constant(Value v, Register into) {
  auto m = matcher_.constant(v);
  Register r = into != no_register
                   ? into
                   : code().new_register(class_of(f_.type(v)),
                                         static_cast<uint8_t>(carrier(f_.type(v)).total_bits()), v);
  RuleRegisters none{};
  none.fill(no_register);
  for (const RuleStep& step : rule_of(*m).steps) emit(*m, step, none, r);
  return r;
}

int64_t Selector::constant_number(Value v) const {
  unsigned spare = 64 - carrier(f_.type(v)).bits();
  return static_cast<int64_t>(f_.constant_bits(v) << spare) >> spare;
}

void Selector::apply(const Match& m, Instruction i) {
  RuleRegisters registers;
  registers.fill(no_register);
  const PatternNode& root = rule_of(m).nodes[0];
  for (size_t k = 0; k < Match::most_variables; ++k)
    if (Value v = m.value(k); v.exists() && static_cast<int>(k) != root.variable && in_register(m, k))
      registers[k] = use(v);
  memory_row_count_ = 0;
  for (size_t k = 0; k < Match::most_variables; ++k) {
    if (m.access(k).exists()) memory_rows_[memory_row_count_++] = {k, add_address(code_address(m.access(k)))};
    if (m.is_pooled(k)) {
      CodeAddress a{.anchor = Anchor::Pool, .anchored = pool_entry(m.value(k))};
      memory_rows_[memory_row_count_++] = {k, add_address(a)};
    }
  }
  Register result = f_.result_count(i) ? register_of(f_.result(i)) : no_register;
  for (const RuleStep& step : rule_of(m).steps) emit(m, step, registers, result);
}

// The register of a variable on the right; temporaries get theirs on first sight.
Register Selector::variable(const Match& m, int8_t k, RuleRegisters& registers, Register result) {
  if (k == rule_of(m).nodes[0].variable && !rule_of(m).matches_constant) return result;
  Register& r = registers[static_cast<size_t>(k)];
  if (r == no_register) {
    bool is_result = rule_of(m).matches_constant && static_cast<size_t>(k) + 1 == rule_of(m).variables.size();
    const VariableShape& shape = rule_of(m).variables[static_cast<size_t>(k)];
    r = is_result ? result : code().new_register(shape.register_class, shape.bits);
  }
  return r;
}

CodeOperand Selector::operand(const Match& m, const RuleSource& s, RuleRegisters& registers, Register result,
                              const FormOperand& shape) {
  CodeOperand o{shape.kind, shape.read, shape.written, no_register, 0};
  switch (s.kind) {
    case SourceKind::Variable: o.reg = variable(m, s.variable, registers, result); break;
    case SourceKind::Physical: o.reg = s.physical; break;
    case SourceKind::Number: o.value = s.number; break;
    case SourceKind::Constant: {
      o.value = constant_number(m.value(static_cast<size_t>(s.variable)));
      for (const PatternNode& n : rule_of(m).nodes)
        if (n.variable == s.variable && n.fit == Fit::Masked) o.value &= static_cast<int64_t>(n.literal);
      break;
    }
    case SourceKind::Memory:
      for (size_t k = 0; k < memory_row_count_; ++k)
        if (static_cast<int>(memory_rows_[k].variable) == s.variable) o.value = memory_rows_[k].row;
      break;
    case SourceKind::Built: {
      CodeAddress a{.scale = s.scale};
      if (s.variable >= 0) a.base = variable(m, s.variable, registers, result);
      if (s.index >= 0) a.index = variable(m, s.index, registers, result);
      if (s.constant >= 0) a.displacement = constant_number(m.value(static_cast<size_t>(s.constant)));
      o.value = add_address(a);
      break;
    }
    case SourceKind::Pool: {
      Value v = m.value(static_cast<size_t>(s.variable));
      o.value = add_address({.anchor = Anchor::Pool, .anchored = pool_entry(v)});
      break;
    }
    case SourceKind::PoolLiteral:
      o.value =
          add_address({.anchor = Anchor::Pool, .anchored = pool_entry(side_by_side(s.type, [&](unsigned) {
                                                 return static_cast<Word>(s.number);
                                               }))});
      break;
    case SourceKind::Order: o.value = shuffled_order(origin_); break;
    case SourceKind::FirstBytes:
    case SourceKind::SecondBytes:
      o.value =
          add_address({.anchor = Anchor::Pool,
                       .anchored = pool_entry(shuffled_bytes(origin_, s.kind == SourceKind::SecondBytes))});
      break;
    case SourceKind::Yes: o.value = successors_[0]; break;
    case SourceKind::No: o.value = successors_[1]; break;
    case SourceKind::None: break;
  }
  return o;
}

void Selector::emit(const Match& m, const RuleStep& step, RuleRegisters& registers, Register result) {
  static constexpr FormOperand in_shape{OperandKind::Register, 0, Type(), true, false},
      out_shape{OperandKind::Register, 0, Type(), false, true};
  if (step.form == copy_form) {
    Register from = operand(m, step.in[0], registers, result, in_shape).reg;
    return copy(operand(m, step.out[0], registers, result, out_shape).reg, from);
  }
  const Form& form = target_.form(step.form);
  CodeOperand operands[4];
  for (size_t k = 0; k < form.operands.size(); ++k) {
    const FormOperand& shape = form.operands[k];
    if (step.out[k].kind == SourceKind::None) {
      operands[k] = operand(m, step.in[k], registers, result, shape);
      continue;
    }
    operands[k] = operand(m, step.out[k], registers, result, shape);
    if (shape.read) copy(operands[k].reg, operand(m, step.in[k], registers, result, in_shape).reg);
  }
  CodeLine i{.form = step.form,
             .operand_count = static_cast<uint8_t>(form.operands.size()),
             .first_operand = static_cast<uint32_t>(code().operands.size()),
             .origin = origin_};
  for (size_t k = 0; k < form.operands.size(); ++k) code().operands.push_back(operands[k]);
  code().code.push_back(i);
}

}  // namespace porphyry::machine
