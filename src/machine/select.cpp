#include "porphyry/machine/select.h"

#include <algorithm>
#include <unordered_map>

#include "match.h"
#include "porphyry/analyze/dominators.h"
#include "porphyry/analyze/loops.h"
#include "porphyry/machine/convention.h"
#include "porphyry/machine/legalize.h"
#include "porphyry/text/writer.h"

namespace porphyry::machine {
namespace {

class Selector {
 public:
  Selector(const Module& module, Symbol symbol, const RuleIndex& rules)
      : module_(module),
        f_(module.function(symbol)),
        rules_(rules),
        target_(rules.target()),
        dominators_(f_),
        loops_(f_, dominators_),
        matcher_(f_, rules),
        root_of_(f_.instruction_limit()),
        needed_(f_.value_limit()),
        registers_(f_.value_limit(), no_register),
        slots_(f_.instruction_limit(), no_slot) {
    out_.code.name = module.symbol_name(symbol);
    size_t instructions = f_.instruction_limit();
    out_.rules.resize(instructions);
    roots_.reserve(instructions);
    code().code.reserve(2 * instructions + 16);
    code().operands.reserve(4 * instructions + 32);
    code().virtuals.reserve(2 * f_.value_limit() + 16);
    code().blocks.reserve(f_.block_limit());
  }

  Result<Selected> run() {
    const auto& order = dominators_.order();
    for (Block b : order) matcher_.visit(b);
    for (size_t k = order.size(); k-- > 0;) mark_needed(order[k]);
    if (!problems_.empty()) return std::move(problems_);
    number_blocks();
    for (Block b = f_.entry(); b.exists(); b = f_.next(b))
      if (dominators_.reachable(b)) block(b);
    if (!problems_.empty()) return std::move(problems_);
    return std::move(out_);
  }

 private:
  static constexpr uint32_t no_slot = 0xffffffff;
  struct Move {
    Register to, from;
  };

  Code& code() { return out_.code; }
  uint8_t class_of(Type t) const { return t.is_float() ? 1 : 0; }
  void complain(Instruction i, const std::string& message) {
    Diagnostic d = complaint("in '" + out_.code.name + "': " + message, "what the target's book covers");
    d.excerpt = write_text(module_, f_, i);
    d.length = static_cast<uint32_t>(d.excerpt.size());
    problems_.push_back(std::move(d));
  }

  // ---- which instructions are roots -----------------------------------------------------------------------

  void need(Value v) { needed_[v] = true; }
  void need_address(Instruction access);

  // Whether the right side of a rule wants a variable in a register.
  bool in_register(const Match& m, size_t variable) const {
    return rules_.facts(m.index).in_register >> variable & 1;
  }

  // From the end of a block to its start: what has an effect or is needed in a register is covered by its
  // best rule, and what that rule takes from registers is needed in turn.
  void mark_needed(Block b) {
    for (Instruction i = f_.last(b); i.exists(); i = f_.previous(i)) {
      Op op = f_.op(i);
      bool wanted = f_.has_effect(i) || (f_.result_count(i) && needed_[f_.result(i)]);
      if (!wanted) continue;
      if (info(op).calls() || op == Op::Go || op == Op::Return) {
        for (size_t k = 0; k < f_.operand_count(i); ++k) need(f_.operand(i, k));
      } else {
        auto m = matcher_.best(i);
        if (!m) {
          complain(i, "no rule of " + std::string(target_.name) + " covers this");
          continue;
        }
        out_.rules[i.index] = static_cast<uint16_t>(m->index + 1);
        root_of_[i] = static_cast<uint32_t>(roots_.size());
        roots_.push_back(*m);
        for (size_t k = 0; k < Match::most_variables; ++k) {
          if (m->values[k].exists()) need(m->values[k]);
          if (m->values[k].exists() && f_.is_constant(m->values[k]) && loops_.depth(b) > 0 &&
              in_register(*m, k))
            early_constants_.push_back(m->values[k]);
          if (m->accesses[k].exists()) need_address(m->accesses[k]);
        }
        if (f_.result_count(i)) needed_[f_.result(i)] = true;
      }
      for (Edge e : f_.edges(i))
        for (size_t k = 0; k < f_.argument_count(e); ++k) need(f_.argument(e, k));
    }
  }

  // ---- addresses ------------------------------------------------------------------------------------------

  struct AddressParts {
    Value base, index;
    int64_t scale = 1, offset = 0;
    Anchor anchor = Anchor::None;
    uint32_t anchored = 0;
    Instruction reserve;
  };

  // The parts of an address, `at` and frame slots and symbols below it folded in.
  AddressParts address_parts(Instruction access) const {
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
        if (f_.op(d) == Op::Reserve || (f_.op(d) == Op::AddressOf && !p.index.exists())) fold_anchor(p, d);
        break;
      }
    }
    if (p.index.exists() && f_.is_constant(p.index)) {
      int64_t sum = p.offset + static_cast<int64_t>(f_.constant_bits(p.index)) * p.scale;
      if (sum == static_cast<int32_t>(sum)) p.offset = sum, p.index = {};
    }
    return p;
  }

  void fold_anchor(AddressParts& p, Instruction d) const {
    p.base = {};
    p.reserve = f_.op(d) == Op::Reserve ? d : Instruction();
    p.anchor = p.reserve.exists() ? Anchor::Slot : Anchor::Symbol;
    if (!p.reserve.exists()) p.anchored = f_.symbol(d).index;
  }

  int64_t add_address(const CodeAddress& a) {
    code().addresses.push_back(a);
    return static_cast<int64_t>(code().addresses.size() - 1);
  }

  CodeAddress code_address(Instruction access) {
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

  uint32_t slot_of(Instruction reserve) {
    uint32_t& slot = slots_[reserve];
    if (slot == no_slot) {
      const ReserveShape& shape = f_.reserve_shape(reserve);
      slot = static_cast<uint32_t>(code().slots.size());
      code().slots.push_back({std::max<uint64_t>(shape.bytes, 1), shape.align, 0});
    }
    return slot;
  }

  uint32_t pool_entry(uint64_t bits, unsigned bytes) {
    for (size_t k = 0; k < code().pool.size(); ++k)
      if (code().pool[k].bits == bits && code().pool[k].bytes == bytes) return static_cast<uint32_t>(k);
    code().pool.push_back({bits, static_cast<uint8_t>(bytes)});
    return static_cast<uint32_t>(code().pool.size() - 1);
  }

  // ---- writing machine code -------------------------------------------------------------------------------

  CodeLine& put(FormIndex form, std::initializer_list<CodeOperand> operands) {
    CodeLine i{.form = form,
               .operand_count = static_cast<uint8_t>(operands.size()),
               .first_operand = static_cast<uint32_t>(code().operands.size()),
               .origin = origin_};
    code().operands.insert(code().operands.end(), operands.begin(), operands.end());
    code().code.push_back(i);
    return code().code.back();
  }
  static CodeOperand reads(Register r) { return {OperandKind::Register, true, false, r, 0}; }
  static CodeOperand writes(Register r) { return {OperandKind::Register, false, true, r, 0}; }
  static CodeOperand label(uint32_t block) { return {OperandKind::Label, false, false, no_register, block}; }
  void copy(Register to, Register from) {
    if (to == from) return;
    CodeOperand out = writes(to);
    out.value = is_virtual(to) ? code().shape(to).bits : is_virtual(from) ? code().shape(from).bits : 64;
    put(copy_form, {out, reads(from)}).role = Role::Move;
  }

  Register register_of(Value v) {
    Register& r = registers_[v];
    if (r == no_register)
      r = code().new_register(class_of(f_.type(v)), static_cast<uint8_t>(carrier(f_.type(v)).total_bits()),
                              v);
    return r;
  }

  // The register a value is in; constants are made on the spot, once a block.
  Register use(Value v) {
    if (!f_.is_constant(v) || registers_[v] != no_register) return register_of(v);
    auto [it, is_new] = constants_.try_emplace(v);
    if (is_new) it->second = make_constant(v, no_register);
    return it->second;
  }

  Register make_constant(Value v, Register into) {
    auto m = matcher_.constant(v);
    Register r = into != no_register
                     ? into
                     : code().new_register(class_of(f_.type(v)),
                                           static_cast<uint8_t>(carrier(f_.type(v)).total_bits()), v);
    std::array<Register, Match::most_variables> none{};
    none.fill(no_register);
    for (const RuleStep& step : m->rule->steps) emit(*m, step, none, r);
    return r;
  }

  int64_t constant_number(Value v) const {
    unsigned spare = 64 - carrier(f_.type(v)).bits();
    return static_cast<int64_t>(f_.constant_bits(v) << spare) >> spare;
  }

  void apply(const Match& m, Instruction i) {
    std::array<Register, Match::most_variables> registers;
    registers.fill(no_register);
    const PatternNode& root = m.rule->nodes[0];
    for (size_t k = 0; k < Match::most_variables; ++k)
      if (m.values[k].exists() && static_cast<int>(k) != root.variable && in_register(m, k))
        registers[k] = use(m.values[k]);
    memory_.clear();
    for (size_t k = 0; k < Match::most_variables; ++k) {
      if (m.accesses[k].exists()) memory_.push_back({k, add_address(code_address(m.accesses[k]))});
      if (m.pooled[k].exists()) {
        CodeAddress a{.anchor = Anchor::Pool,
                      .anchored = pool_entry(f_.constant_bits(m.pooled[k]), f_.type(m.pooled[k]).bytes())};
        memory_.push_back({k, add_address(a)});
      }
    }
    Register result = f_.result_count(i) ? register_of(f_.result(i)) : no_register;
    for (const RuleStep& step : m.rule->steps) emit(m, step, registers, result);
  }

  // The register of a variable on the right; temporaries get theirs on first sight.
  Register variable(const Match& m, int8_t k, std::array<Register, Match::most_variables>& registers,
                    Register result) {
    if (k == m.rule->nodes[0].variable && !m.rule->matches_constant) return result;
    Register& r = registers[static_cast<size_t>(k)];
    if (r == no_register) {
      bool is_result = m.rule->matches_constant && static_cast<size_t>(k) + 1 == m.rule->variables.size();
      const VariableShape& shape = m.rule->variables[static_cast<size_t>(k)];
      r = is_result ? result : code().new_register(shape.register_class, shape.bits);
    }
    return r;
  }

  CodeOperand operand(const Match& m, const RuleSource& s,
                      std::array<Register, Match::most_variables>& registers, Register result,
                      const FormOperand& shape) {
    CodeOperand o{shape.kind, shape.read, shape.written, no_register, 0};
    switch (s.kind) {
      case SourceKind::Variable: o.reg = variable(m, s.variable, registers, result); break;
      case SourceKind::Physical: o.reg = s.physical; break;
      case SourceKind::Number: o.value = s.number; break;
      case SourceKind::Constant: {
        o.value = constant_number(m.values[static_cast<size_t>(s.variable)]);
        for (const PatternNode& n : m.rule->nodes)
          if (n.variable == s.variable && n.fit == Fit::Masked) o.value &= static_cast<int64_t>(n.literal);
        break;
      }
      case SourceKind::Memory:
        for (auto [k, row] : memory_)
          if (static_cast<int>(k) == s.variable) o.value = row;
        break;
      case SourceKind::Built: {
        CodeAddress a{.scale = s.scale};
        if (s.variable >= 0) a.base = variable(m, s.variable, registers, result);
        if (s.index >= 0) a.index = variable(m, s.index, registers, result);
        if (s.constant >= 0) a.displacement = constant_number(m.values[static_cast<size_t>(s.constant)]);
        o.value = add_address(a);
        break;
      }
      case SourceKind::Pool: {
        Value v = m.values[static_cast<size_t>(s.variable)];
        o.value = add_address(
            {.anchor = Anchor::Pool, .anchored = pool_entry(f_.constant_bits(v), f_.type(v).bytes())});
        break;
      }
      case SourceKind::PoolLiteral:
        o.value = add_address({.anchor = Anchor::Pool,
                               .anchored = pool_entry(static_cast<uint64_t>(s.number) &
                                                          (s.type.bits() == 32 ? 0xffffffffu : ~0ull),
                                                      s.type.bytes())});
        break;
      case SourceKind::Yes: o.value = successors_[0]; break;
      case SourceKind::No: o.value = successors_[1]; break;
      case SourceKind::None: break;
    }
    return o;
  }

  void emit(const Match& m, const RuleStep& step, std::array<Register, Match::most_variables>& registers,
            Register result) {
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
    code().operands.insert(code().operands.end(), operands, operands + form.operands.size());
    code().code.push_back(i);
  }

  // ---- blocks ---------------------------------------------------------------------------------------------

  void number_blocks() {
    block_numbers_.resize(f_.block_limit());
    uint32_t n = 0;
    for (Block b = f_.entry(); b.exists(); b = f_.next(b))
      if (dominators_.reachable(b)) block_numbers_[b.index] = n++;
  }

  void block(Block b) {
    constants_.clear();
    origin_ = {};
    CodeBlock m{.origin = b,
                .first = static_cast<uint32_t>(code().code.size()),
                .depth = static_cast<uint8_t>(std::min(loops_.depth(b), 200u))};
    Instruction end = f_.terminator(b);
    successors_ = {};
    for (Edge e : f_.edges(end)) successors_.push_back(block_numbers_[f_.to(e).index]);
    m.successors = successors_;
    if (b == f_.entry())
      take_parameters();
    else if (Edge e = f_.first_in(b);
             e.exists() && !f_.next_in(e).exists() && f_.edge_count(f_.terminator(f_.from(e))) > 1)
      pass_arguments(e);
    for (Instruction i = f_.first(b); i.exists(); i = f_.next(i)) {
      if (i == end && b == f_.entry()) make_early_constants();
      instruction(i);
    }
    m.count = static_cast<uint32_t>(code().code.size()) - m.first;
    code().blocks.push_back(std::move(m));
  }

  // Constants that loops want in registers are made once, before all loops; where registers are short, the
  // allocator makes them again beside their users.
  void make_early_constants() {
    origin_ = {};
    for (Value v : early_constants_)
      if (registers_[v] == no_register) make_constant(v, register_of(v));
  }

  void instruction(Instruction i) {
    origin_ = i;
    Op op = f_.op(i);
    if (op == Op::Call || op == Op::CallThrough) return call(i);
    if (op == Op::ReturnCall || op == Op::ReturnCallThrough) return leave(i);
    if (op == Op::Return) return give_back(i);
    if (op == Op::Go) {
      pass_arguments(f_.edge(i, 0));
      put(target_.upkeep.jump, {label(successors_[0])});
      return;
    }
    if (out_.rules[i.index] == 0) return;
    const Match& m = roots_[root_of_[i]];
    for (Instruction inner : m.covered)
      if (inner.exists()) out_.covered.push_back({i, inner});
    apply(m, i);
  }

  FormIndex fetch_form_of(Register r) const {
    const VirtualRegister& v = out_.code.shape(r);
    const Upkeep& u = target_.upkeep;
    return v.register_class == 0 ? u.fetch_general : v.bits > 64 ? u.fetch_wide : u.fetch_lanes;
  }
  FormIndex save_form_of(Register r) const {
    const VirtualRegister& v = out_.code.shape(r);
    const Upkeep& u = target_.upkeep;
    return v.register_class == 0 ? u.save_general : v.bits > 64 ? u.save_wide : u.save_lanes;
  }
  static CodeOperand memory_operand(int64_t row, bool written) {
    return {OperandKind::Memory, !written, written, no_register, row};
  }

  void take_parameters() {
    uint64_t bytes = 0;
    auto where = arrivals(target_.convention, f_.signature().parameters, bytes);
    for (size_t k = 0; k < where.size(); ++k)
      if (where[k].reg != no_register) {
        Value v = f_.parameters()[k];
        copy(needed_[v] ? register_of(v) : code().new_register(class_of(f_.type(v)), 64), where[k].reg);
      }
    for (size_t k = 0; k < where.size(); ++k) {
      Value v = f_.parameters()[k];
      if (where[k].reg != no_register || !needed_[v]) continue;
      Register r = register_of(v);
      put(fetch_form_of(r),
          {writes(r), memory_operand(add_address({.anchor = Anchor::Incoming,
                                                  .displacement = static_cast<int64_t>(where[k].stack)}),
                                     false)});
    }
  }

  // ---- calls ----------------------------------------------------------------------------------------------

  // Arguments into their places; what the callee reads goes to `info`.
  void pass(Instruction i, size_t first, const std::vector<Type>& types, CallInfo& info) {
    uint64_t bytes = 0;
    auto where = arrivals(target_.convention, types, bytes);
    code().outgoing_bytes = std::max(code().outgoing_bytes, bytes);
    std::vector<Register> values;
    for (size_t k = 0; k < where.size(); ++k) values.push_back(use(f_.operand(i, first + k)));
    for (size_t k = 0; k < where.size(); ++k)
      if (where[k].reg == no_register)
        put(save_form_of(values[k]),
            {memory_operand(add_address({.anchor = Anchor::Outgoing,
                                         .displacement = static_cast<int64_t>(where[k].stack)}),
                            true),
             reads(values[k])});
    for (size_t k = 0; k < where.size(); ++k)
      if (where[k].reg != no_register) {
        copy(where[k].reg, values[k]);
        info.reads |= mask_of_register(where[k].reg);
      }
  }

  std::vector<Type> types_of_operands(Instruction i, size_t first) const {
    std::vector<Type> out;
    for (size_t k = first; k < f_.operand_count(i); ++k) out.push_back(f_.type(f_.operand(i, k)));
    return out;
  }

  RegisterMask lost_over_calls() const {
    RegisterMask out = mask_of_register(target_.flags_register);
    for (const RegisterClass& c : target_.classes)
      for (unsigned r = c.first; r < unsigned(c.first + c.count); ++r)
        if (!(target_.convention.kept & mask_of_register(r)) && r != target_.convention.stack)
          out |= mask_of_register(r);
    return out;
  }

  void call(Instruction i) {
    bool through = f_.op(i) == Op::CallThrough;
    auto types = types_of_operands(i, through);
    std::vector<Type> result_types;
    for (size_t k = 0; k < f_.result_count(i); ++k) result_types.push_back(f_.type(f_.result(i, k)));
    auto results = result_registers(target_.convention, result_types);
    if (!results) return complain(i, "there are more results than registers for them");
    code().has_calls = true;
    CallInfo info{.writes = lost_over_calls()};
    Register callee = through ? use(f_.operand(i, 0)) : no_register;
    pass(i, through, types, info);
    if (!through && module_.signature(f_.symbol(i))->variadic) count_floats(types, info);
    code().calls.push_back(info);
    CodeOperand target{OperandKind::Symbol, false, false, no_register,
                       through ? 0 : int64_t(f_.symbol(i).index)};
    if (through) target = reads(callee);
    CodeLine& made = put(through ? target_.upkeep.call_through : target_.upkeep.call, {target});
    made.call = static_cast<uint32_t>(code().calls.size() - 1);
    constants_.clear();  // cheaper made again than kept over a call
    for (size_t k = 0; k < results->size(); ++k) copy(register_of(f_.result(i, k)), (*results)[k]);
  }

  // A callee with any arguments asks how many came in float registers.
  void count_floats(const std::vector<Type>& types, CallInfo& info) {
    if (target_.convention.float_count < 0) return;
    uint64_t bytes = 0;
    int64_t count = 0;
    auto where = arrivals(target_.convention, types, bytes);
    for (size_t k = 0; k < types.size(); ++k) count += types[k].is_float() && where[k].reg != no_register;
    Register at = static_cast<Register>(target_.convention.float_count);
    put(target_.upkeep.move_literal, {writes(at), {OperandKind::Literal, false, false, no_register, count}});
    info.reads |= mask_of_register(at);
  }

  // The frame goes, then the callee is jumped to. Its address outlives the frame in the scratch register.
  void leave(Instruction i) {
    bool through = f_.op(i) == Op::ReturnCallThrough;
    CallInfo info{.leaves = true};
    Register scratch = target_.convention.scratch, callee = through ? use(f_.operand(i, 0)) : no_register;
    pass(i, through, types_of_operands(i, through), info);
    CodeOperand target{OperandKind::Symbol, false, false, no_register,
                       through ? 0 : int64_t(f_.symbol(i).index)};
    if (through) {
      copy(scratch, callee);
      target = reads(scratch);
    }
    code().calls.push_back(info);
    put(through ? target_.upkeep.jump_through : target_.upkeep.jump, {target}).call =
        static_cast<uint32_t>(code().calls.size() - 1);
  }

  void give_back(Instruction i) {
    auto results = result_registers(target_.convention, f_.signature().results);
    if (!results) return complain(i, "the function has more results than registers for them");
    CallInfo info;
    std::vector<Register> values;
    for (size_t k = 0; k < results->size(); ++k) values.push_back(use(f_.operand(i, k)));
    for (size_t k = 0; k < results->size(); ++k) {
      copy((*results)[k], values[k]);
      info.reads |= mask_of_register((*results)[k]);
    }
    code().calls.push_back(info);
    put(target_.upkeep.give_back, {}).call = static_cast<uint32_t>(code().calls.size() - 1);
  }

  // Copies an edge's arguments into the block's parameters, all at once: what is still to be read is not
  // overwritten, and a cycle goes through one more register.
  void pass_arguments(Edge e) {
    auto& moves = moves_;
    auto& constants = constant_moves_;
    moves.clear(), constants.clear();
    auto parameters = f_.parameters(f_.to(e));
    for (size_t k = 0; k < parameters.size(); ++k) {
      if (!needed_[parameters[k]]) continue;
      Value v = f_.argument(e, k);
      Register to = register_of(parameters[k]);
      if (f_.is_constant(v))
        constants.push_back({to, v});
      else if (register_of(v) != to)
        moves.push_back({to, register_of(v)});
    }
    parallel_copy(moves);
    for (auto& [to, v] : constants) make_constant(v, to);
  }

  // Ready moves first: those whose target nobody still reads. A cycle goes through one more register.
  // O(moves).
  void parallel_copy(std::vector<Move>& moves) {
    if (moves.size() == 1) return copy(moves[0].to, moves[0].from);
    auto row = [&](Register r) -> MoveRow& {
      if (r - first_virtual >= rows_.size()) rows_.resize(code().virtuals.size() + 16);
      return rows_[r - first_virtual];
    };
    for (size_t k = 0; k < moves.size(); ++k) {
      ++row(moves[k].from).readers;
      row(moves[k].to).writer = static_cast<uint32_t>(k + 1);
    }
    ready_.clear();
    done_.assign(moves.size(), false);
    for (size_t k = 0; k < moves.size(); ++k)
      if (row(moves[k].to).readers == 0) ready_.push_back(k);
    size_t left = moves.size();
    for (size_t next = 0; left > 0;) {
      if (ready_.empty()) {
        while (done_[next]) ++next;
        Register blocked = moves[next].to;
        Register spare =
            code().new_register(code().shape(blocked).register_class, code().shape(blocked).bits);
        copy(spare, blocked);
        for (Move& m : moves)
          if (m.from == blocked) m.from = spare;
        row(spare).readers = row(blocked).readers;
        row(blocked).readers = 0;
        ready_.push_back(next);
      }
      size_t k = ready_.back();
      ready_.pop_back();
      copy(moves[k].to, moves[k].from);
      done_[k] = true;
      --left;
      MoveRow& from = row(moves[k].from);
      if (--from.readers == 0 && from.writer && !done_[from.writer - 1]) ready_.push_back(from.writer - 1);
    }
    for (const Move& m : moves) row(m.to) = {}, row(m.from) = {};
  }

  const Module& module_;
  const Function& f_;
  const RuleIndex& rules_;
  const Target& target_;
  Dominators dominators_;
  Loops loops_;
  Matcher matcher_;
  std::vector<Match> roots_;
  Table<Instruction, uint32_t> root_of_;  // row of roots_
  Table<Value, uint8_t> needed_;
  Table<Value, Register> registers_;
  Table<Instruction, uint32_t> slots_;
  std::unordered_map<Value, Register> constants_;  // of the block at hand
  std::vector<Value> early_constants_;
  std::vector<std::pair<size_t, int64_t>> memory_;
  std::vector<uint32_t> block_numbers_;
  Successors successors_;  // of the block at hand
  struct MoveRow {
    uint32_t readers = 0, writer = 0;  // moves still to read it; the one that writes it, plus one
  };
  std::vector<Move> moves_;
  std::vector<std::pair<Register, Value>> constant_moves_;
  std::vector<MoveRow> rows_;  // by virtual register; empty between edges
  std::vector<size_t> ready_;
  std::vector<bool> done_;
  Instruction origin_;
  Diagnostics problems_;
  Selected out_;
};

void Selector::need_address(Instruction access) {
  AddressParts p = address_parts(access);
  if (p.base.exists()) need(p.base);
  if (p.index.exists()) need(p.index);
}

}  // namespace

Result<Selected> select(const Module& module, Symbol function, const RuleIndex& rules) {
  return Selector(module, function, rules).run();
}

}  // namespace porphyry::machine
