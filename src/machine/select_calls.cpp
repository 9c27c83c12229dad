// Parameters, arguments and results where the convention wants them, and the arguments of edges.
#include <algorithm>

#include "porphyry/machine/convention.h"
#include "selector.h"

namespace porphyry::machine {

void Selector::take_parameters() {
  uint64_t bytes = 0;
  auto where = arrivals(target_.convention, f_.signature().parameters, bytes, memory_);
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

// Arguments into their places; what the callee reads goes to `info`. For one that takes this function's
// place, words on the stack go over those that this function was passed, which are in registers by now.
void Selector::pass(Instruction i, size_t first, std::span<const Type> types, CallInfo& info) {
  uint64_t bytes = 0;
  auto where = arrivals(target_.convention, types, bytes, memory_);
  Anchor stack = info.leaves ? Anchor::Incoming : Anchor::Outgoing;
  if (!info.leaves) code().outgoing_bytes = std::max(code().outgoing_bytes, bytes);
  std::pmr::vector<Register> values(memory_);
  for (size_t k = 0; k < where.size(); ++k) values.push_back(use(f_.operand(i, first + k)));
  for (size_t k = 0; k < where.size(); ++k)
    if (where[k].reg == no_register)
      put(save_form_of(values[k]),
          {memory_operand(
               add_address({.anchor = stack, .displacement = static_cast<int64_t>(where[k].stack)}), true),
           reads(values[k])});
  for (size_t k = 0; k < where.size(); ++k)
    if (where[k].reg != no_register) {
      copy(where[k].reg, values[k]);
      info.reads |= mask_of_register(where[k].reg);
    }
}

std::pmr::vector<Type> Selector::types_of_operands(Instruction i, size_t first) const {
  std::pmr::vector<Type> out(memory_);
  for (size_t k = first; k < f_.operand_count(i); ++k) out.push_back(f_.type(f_.operand(i, k)));
  return out;
}

RegisterMask Selector::lost_over_calls() const {
  RegisterMask out = mask_of_register(target_.flags_register);
  for (const RegisterClass& c : target_.classes)
    for (unsigned r = c.first; r < unsigned(c.first + c.count); ++r)
      if (!(target_.convention.kept & mask_of_register(r)) && r != target_.convention.stack)
        out |= mask_of_register(r);
  return out;
}

void Selector::call(Instruction i) {
  bool through = f_.op(i) == Op::CallThrough;
  auto types = types_of_operands(i, through);
  std::pmr::vector<Type> result_types(memory_);
  for (size_t k = 0; k < f_.result_count(i); ++k) result_types.push_back(f_.type(f_.result(i, k)));
  auto results = result_registers(target_.convention, result_types, memory_);
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
  ++stretch_;  // cheaper made again than kept over a call
  for (size_t k = 0; k < results->size(); ++k) copy(register_of(f_.result(i, k)), (*results)[k]);
}

// A callee with any arguments asks how many came in float registers.
void Selector::count_floats(std::span<const Type> types, CallInfo& info) {
  if (target_.convention.float_count < 0) return;
  uint64_t bytes = 0;
  int64_t count = 0;
  auto where = arrivals(target_.convention, types, bytes, memory_);
  for (size_t k = 0; k < types.size(); ++k) count += types[k].is_float() && where[k].reg != no_register;
  Register at = static_cast<Register>(target_.convention.float_count);
  put(target_.upkeep.move_literal, {writes(at), {OperandKind::Literal, false, false, no_register, count}});
  info.reads |= mask_of_register(at);
}

// The frame goes, then the callee is jumped to. Its address outlives the frame in the scratch register.
void Selector::leave(Instruction i) {
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

void Selector::give_back(Instruction i) {
  auto results = result_registers(target_.convention, f_.signature().results, memory_);
  if (!results) return complain(i, "the function has more results than registers for them");
  CallInfo info;
  std::pmr::vector<Register> values(memory_);
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
void Selector::pass_arguments(Edge e) {
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
void Selector::parallel_copy(std::pmr::vector<Move>& moves) {
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
      Register spare = code().new_register(code().shape(blocked).register_class, code().shape(blocked).bits);
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

}  // namespace porphyry::machine
