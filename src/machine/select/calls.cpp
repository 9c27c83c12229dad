#include "calls.h"

#include <algorithm>
#include <array>

#include "porphyry/machine/convention.h"

namespace porphyry::machine {
namespace {

const SpillForm& spill_form_of(const CodeWriter& w, Register r) {
  const VirtualRegister& v = w.code.shape(r);
  return w.target.spill_form(v.register_class, v.bits);
}

using Memory = std::pmr::memory_resource;

// Arguments into their places; what the callee reads goes to `info`. For one that takes this function's
// place, words on the stack go over those that this function was passed, which are in registers by now.
void pass(CodeWriter& w, Instruction i, size_t first, std::span<const Type> types, CallInfo& info,
          Memory* work) {
  uint64_t bytes = 0;
  auto where = arrivals(w.target.convention, types, bytes, work);
  Anchor stack = info.leaves ? Anchor::Incoming : Anchor::Outgoing;
  if (!info.leaves) w.code.outgoing_bytes = std::max(w.code.outgoing_bytes, bytes);
  std::pmr::vector<Register> values(work);
  for (size_t k = 0; k < where.size(); ++k) values.push_back(w.use(w.f.operand(i, first + k)));
  for (size_t k = 0; k < where.size(); ++k)
    if (where[k].reg == no_register)
      w.put(spill_form_of(w, values[k]).spill,
            {memory(w.add_address({.anchor = stack, .displacement = static_cast<int64_t>(where[k].stack)}),
                    true),
             reads(values[k])});
  for (size_t k = 0; k < where.size(); ++k)
    if (where[k].reg != no_register) {
      w.copy(where[k].reg, values[k]);
      info.reads.add(where[k].reg);
    }
}

std::pmr::vector<Type> types_of_operands(const Function& f, Instruction i, size_t first, Memory* work) {
  std::pmr::vector<Type> out(work);
  for (size_t k = first; k < f.operand_count(i); ++k) out.push_back(f.type(f.operand(i, k)));
  return out;
}

RegisterSet lost_over_calls(const Target& target) {
  RegisterSet out;
  for (const RegisterClass& c : target.classes) out |= RegisterSet::run(c.first, c.count);
  return out - target.convention.kept - target.convention.reserved;
}

// A callee with any arguments asks how many came in float registers.
void count_floats(CodeWriter& w, std::span<const Type> types, CallInfo& info, Memory* work) {
  if (w.target.convention.float_count < 0) return;
  uint64_t bytes = 0;
  int64_t count = 0;
  auto where = arrivals(w.target.convention, types, bytes, work);
  for (size_t k = 0; k < types.size(); ++k) count += types[k].is_float() && where[k].reg != no_register;
  Register at = static_cast<Register>(w.target.convention.float_count);
  w.put(w.target.upkeep.move_literal,
        {writes(at), {OperandKind::Literal, false, false, Part::Whole, no_register, count}});
  info.reads.add(at);
}

}  // namespace

void take_parameters(CodeWriter& w, const FixedTable<Value, uint8_t>& needed, Memory* work) {
  const Function& f = w.f;
  uint64_t bytes = 0;
  auto where = arrivals(w.target.convention, f.signature().parameters, bytes, work);
  for (size_t k = 0; k < where.size(); ++k)
    if (where[k].reg != no_register) {
      Value v = f.parameters()[k];
      w.copy(needed[v] ? w.register_of(v) : w.code.new_register(class_of(f.type(v)), 64), where[k].reg);
    }
  for (size_t k = 0; k < where.size(); ++k) {
    Value v = f.parameters()[k];
    if (where[k].reg != no_register || !needed[v]) continue;
    Register r = w.register_of(v);
    w.put(spill_form_of(w, r).reload,
          {writes(r), memory(w.add_address({.anchor = Anchor::Incoming,
                                            .displacement = static_cast<int64_t>(where[k].stack)}),
                             false)});
  }
}

const char* write_call(CodeWriter& w, const Module& module, Instruction i, Memory* work) {
  const Function& f = w.f;
  bool through = f.op(i) == Op::CallThrough;
  auto types = types_of_operands(f, i, through, work);
  std::pmr::vector<Type> result_types(work);
  for (Value v : f.results(i)) result_types.push_back(f.type(v));
  auto results = result_registers(w.target.convention, result_types, work);
  if (!results) return "there are more results than registers for them";
  w.code.has_calls = true;
  CallInfo info{.writes = lost_over_calls(w.target), .loses_flags = true};
  Register callee = through ? w.use(f.operand(i, 0)) : no_register;
  pass(w, i, through, types, info, work);
  if (!through && module.signature(f.symbol(i))->variadic) count_floats(w, types, info, work);
  w.code.calls.push_back(info);
  CodeOperand target{OperandKind::Symbol, false,       false,
                     Part::Whole,         no_register, through ? 0 : int64_t(f.symbol(i).index)};
  if (through) target = reads(callee);
  CodeLine& made = w.put(through ? w.target.upkeep.call_through : w.target.upkeep.call, {target});
  made.call = static_cast<uint32_t>(w.code.calls.size() - 1);
  w.begin_stretch();  // cheaper made again than kept over a call
  for (size_t k = 0; k < results->size(); ++k) w.copy(w.register_of(f.result(i, k)), (*results)[k]);
  return nullptr;
}

// The frame goes, then the callee is jumped to. Its address outlives the frame in the scratch register.
const char* write_return_call(CodeWriter& w, Instruction i, Memory* work) {
  const Function& f = w.f;
  bool through = f.op(i) == Op::ReturnCallThrough;
  CallInfo info{.leaves = true};
  Register scratch = w.target.convention.scratch, callee = through ? w.use(f.operand(i, 0)) : no_register;
  pass(w, i, through, types_of_operands(f, i, through, work), info, work);
  CodeOperand target{OperandKind::Symbol, false,       false,
                     Part::Whole,         no_register, through ? 0 : int64_t(f.symbol(i).index)};
  if (through) {
    w.copy(scratch, callee);
    target = reads(scratch);
  }
  w.code.calls.push_back(info);
  w.put(through ? w.target.upkeep.jump_through : w.target.upkeep.jump, {target}).call =
      static_cast<uint32_t>(w.code.calls.size() - 1);
  return nullptr;
}

const char* write_return(CodeWriter& w, Instruction i, Memory* work) {
  const Function& f = w.f;
  auto results = result_registers(w.target.convention, f.signature().results, work);
  if (!results) return "the function has more results than registers for them";
  CallInfo info;
  std::pmr::vector<Register> values(work);
  for (size_t k = 0; k < results->size(); ++k) values.push_back(w.use(f.operand(i, k)));
  for (size_t k = 0; k < results->size(); ++k) {
    w.copy((*results)[k], values[k]);
    info.reads.add((*results)[k]);
  }
  w.code.calls.push_back(info);
  w.put(w.target.upkeep.return_values, {}).call = static_cast<uint32_t>(w.code.calls.size() - 1);
  return nullptr;
}

// Copies an edge's arguments into the block's parameters, all at once: what is still to be read is not
// overwritten, and a cycle goes through one more register.
void EdgeWriter::write(CodeWriter& w, const FixedTable<Value, uint8_t>& needed, Edge e) {
  const Function& f = w.f;
  moves_.clear(), constants_.clear();
  auto parameters = f.parameters(f.to(e));
  for (size_t k = 0; k < parameters.size(); ++k) {
    if (!needed[parameters[k]]) continue;
    Value v = f.argument(e, k);
    Register to = w.register_of(parameters[k]);
    if (f.is_constant(v))
      constants_.push_back({to, v});
    else if (w.register_of(v) != to)
      moves_.push_back({to, w.register_of(v), w.register_of(v), static_cast<uint32_t>(k)});
  }
  if (moves_.size() > 1) find_crossings(w, e);
  copy_all(w);
  for (auto& [to, v] : constants_) w.make_constant(v, to);
}

// Values that change places here, and keep them on other edges into the block, had best share registers with
// the parameters of those places: they are copied as if they did, which is a cycle.
// O(1), as only edges of few moves are looked at.
void EdgeWriter::find_crossings(CodeWriter& w, Edge e) {
  const Function& f = w.f;
  constexpr size_t most_uses = 16, most_moves = 32;
  if (moves_.size() > most_moves) return;
  const Block to = f.to(e);
  // The parameter that most edges give a value to, among its first uses.
  auto home = [&](Value v) {
    std::array<uint8_t, 8> votes{};
    size_t looked = 0;
    for (Slot s = f.first_use(v); s.exists() && looked++ < most_uses; s = f.next_use(s)) {
      auto use = f.use(s);
      if (!use.edge.exists() || f.to(use.edge) != to) continue;
      const size_t k = s.index - f.argument_slot(use.edge, 0).index;
      if (k < votes.size()) ++votes[k];
    }
    return static_cast<size_t>(std::max_element(votes.begin(), votes.end()) - votes.begin());
  };
  for (Move& m : moves_) {
    const size_t j = home(f.argument(e, m.number));
    m.is_home = j == m.number;
    if (m.is_home) continue;
    // What is a parameter itself stands for itself: it is not to be overwritten before it is read.
    if (std::any_of(moves_.begin(), moves_.end(), [&](const Move& o) { return o.to == m.from; })) continue;
    auto other = std::find_if(moves_.begin(), moves_.end(), [&](const Move& o) { return o.number == j; });
    if (other != moves_.end()) m.as = other->to;
  }
  // Of one value to several places: to its own at last, when nothing reads it any more. The last one is taken
  // first.
  std::stable_partition(moves_.begin(), moves_.end(), [](const Move& m) { return m.is_home; });
}

// Ready moves first: those whose target is not read any more. A cycle goes through one more register.
// O(moves).
void EdgeWriter::copy_all(CodeWriter& w) {
  auto& moves = moves_;
  if (moves.size() == 1) return w.copy(moves[0].to, moves[0].from);
  auto row = [&](Register r) -> MoveRow& {
    if (r - first_virtual >= rows_.size()) rows_.resize(w.code.virtuals.size() + 16);
    return rows_[r - first_virtual];
  };
  for (size_t k = 0; k < moves.size(); ++k) {
    ++row(moves[k].as).readers;
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
      for (Move& m : moves) {
        if (m.as != blocked) continue;
        Register spare =
            w.code.new_register(w.code.shape(blocked).register_class, w.code.shape(blocked).bits);
        w.copy(spare, m.from);
        for (Move& o : moves)
          if (o.as == blocked && o.from == m.from && &o != &m) o.as = o.from = spare, ++row(spare).readers;
        m.as = m.from = spare, ++row(spare).readers;
      }
      row(blocked).readers = 0;
      ready_.push_back(next);
    }
    size_t k = ready_.back();
    ready_.pop_back();
    w.copy(moves[k].to, moves[k].from);
    done_[k] = true;
    --left;
    MoveRow& from = row(moves[k].as);
    if (--from.readers == 0 && from.writer && !done_[from.writer - 1]) ready_.push_back(from.writer - 1);
  }
  for (const Move& m : moves) row(m.to) = {}, row(m.as) = {};
}

}  // namespace porphyry::machine
