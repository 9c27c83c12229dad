#include "porphyry/ask/secrets.h"

#include <fmt/format.h>

#include <algorithm>
#include <bitset>

#include "porphyry/machine/allocate.h"
#include "porphyry/machine/code_text.h"
#include "porphyry/machine/convention.h"
#include "porphyry/machine/listing.h"
#include "porphyry/machine/passing.h"
#include "porphyry/print/print.h"
#include "secret_flow.h"

namespace porphyry {

using ask::SecretFlow;
using Use = SecretUse::Kind;

std::string_view kind_name(SecretUse::Kind kind) {
  static constexpr std::string_view names[] = {"branch", "address", "time"};
  return names[static_cast<size_t>(kind)];
}

namespace {

// Whose time depends on its operands, on processors that there are.
bool takes_its_time(Op op) {
  return op == Op::DivS || op == Op::DivU || op == Op::RemS || op == Op::RemU || op == Op::Div ||
         op == Op::Rem || op == Op::Sqrt;
}

class IrUses {
 public:
  IrUses(const Module& module, const SecretFlow& flow) : module_(module), flow_(flow) {}

  std::vector<SecretUse> run() {
    for (Symbol s : module_.functions())
      for (Block b : module_.function(s).blocks())
        for (Instruction i : module_.function(s).instructions(b)) instruction(s, i);
    return std::move(out_);
  }

 private:
  void instruction(Symbol s, Instruction i) {
    const Function& f = module_.function(s);
    const Op op = f.op(i);
    const OperationInfo& row = info(op);
    const bool access = (row.detail() == Detail::Address && op != Op::At) || op == Op::Copy;
    for (size_t k = 0; k < f.operand_count(i); ++k) {
      const Value v = f.operand(i, k);
      if (f.is_constant(v) || !flow_.is_secret(s, v)) continue;
      if ((op == Op::When || op == Op::Choose) && k == 0) return leave(Use::Branch, s, i, v);
      if (row.layout == Layout::CallThrough && k == 0) return leave(Use::Branch, s, i, v);
      if (access && !(op == Op::Store && k == 0) && !(op == Op::Fill && k == 0))
        return leave(Use::Address, s, i, v);
      const bool by_constant = f.operand_count(i) > 1 && f.is_constant(f.operand(i, 1));
      if (takes_its_time(op) && !by_constant) return leave(Use::Time, s, i, v);
    }
  }
  void leave(Use kind, Symbol s, Instruction i, Value v) {
    const Function& f = module_.function(s);
    out_.push_back({.kind = kind,
                    .function = std::string(module_.symbol_name(s)),
                    .text = write_text(module_, f, i),
                    .position = place_text(module_, f.position(i)),
                    .way = flow_.way(s, v)});
  }

  const Module& module_;
  const SecretFlow& flow_;
  std::vector<SecretUse> out_;
};

using namespace machine;

// One function's code.
class CodeUses {
 public:
  CodeUses(const LoweredModule& lowered, const CompiledFunction& compiled, const Target& target,
           const SecretFlow& flow)
      : module_(*lowered.legal),
        c_(compiled),
        code_(compiled.explained->code),
        target_(target),
        flow_(flow),
        f_(module_.function(compiled.symbol)) {}

  void run(std::vector<SecretUse>& out) {
    in_.resize(code_.blocks.size());
    slots_.resize(code_.slots.size());
    arrive();
    std::vector<uint32_t> todo(code_.blocks.size());
    for (uint32_t b = 0; b < todo.size(); ++b) todo[b] = static_cast<uint32_t>(todo.size()) - 1 - b;
    while (!todo.empty()) {
      const uint32_t b = todo.back();
      todo.pop_back();
      const bool slots_before = changed_slots_;
      Registers state = in_[b];
      lines(b, state, nullptr);
      for (uint32_t to : code_.successors(code_.blocks[b])) {
        const Registers now = in_[to] | state;
        if (now == in_[to]) continue;
        in_[to] = now;
        todo.push_back(to);
      }
      if (changed_slots_ != slots_before) {  // any block may have read them
        changed_slots_ = slots_before;
        for (uint32_t k = 0; k < code_.blocks.size(); ++k) todo.push_back(k);
      }
    }
    for (uint32_t b = 0; b < code_.blocks.size(); ++b) {
      Registers state = in_[b];
      lines(b, state, &out);
    }
  }

 private:
  using Registers = std::bitset<RegisterSet::capacity + 1>;  // the last one: all flags

  // Parameters that are secret, in the registers in which they arrive.
  void arrive() {
    std::vector<Type> types;
    for (Value v : f_.parameters()) types.push_back(f_.type(v));
    uint64_t stack = 0;
    const auto places = arrivals(target_.convention, types, stack);
    for (size_t k = 0; k < places.size(); ++k) {
      if (!flow_.is_secret(c_.symbol, f_.parameters()[k])) continue;
      if (places[k].reg != no_register)
        in_[0].set(places[k].reg);
      else
        incoming_.push_back(static_cast<int64_t>(places[k].stack));
    }
  }

  // Whether the operand is a value that is secret by what decided it, which no register shows.
  bool stands_for_secret(const CodeOperand& o) const {
    const auto& virtual_of = c_.explained->virtual_of;
    const size_t row = static_cast<size_t>(&o - code_.operands.data());
    if (row >= virtual_of.size() || !is_virtual(virtual_of[row])) return false;
    if (virtual_of[row] - first_virtual >= code_.virtuals.size()) return false;
    const Value v = code_.shape(virtual_of[row]).origin;
    return v.exists() && !f_.is_constant(v) && flow_.is_secret(c_.symbol, v);
  }

  // The same register twice, in a form that makes it zero.
  bool clears(const CodeLine& l) const {
    const FormIndex general = target_.form(l.form).first_in_group;
    bool clear = false;
    for (const ShorterForms* forms : {&target_.upkeep.half, &target_.upkeep.whole})
      clear |= forms->clear && general == target_.form(forms->clear).first_in_group;
    Register one = no_register;
    for (const CodeOperand& o : code_.of(l)) {
      if (o.kind != OperandKind::Register) return false;
      if (one != no_register && o.reg != one) return false;
      one = o.reg;
    }
    return clear;
  }

  bool loads_secret(const CodeLine& line) const {
    if (!line.origin.exists()) return false;
    auto is = [&](Instruction i) {
      if (f_.op(i) != Op::Load) return false;
      return flow_.is_secret(c_.symbol, f_.result(i));
    };
    if (is(line.origin)) return true;
    for (const auto& [root, inner] : c_.covered)
      if (root == line.origin && is(inner)) return true;
    return false;
  }

  void lines(uint32_t b, Registers& state, std::vector<SecretUse>* out) {
    const CodeBlock& block = code_.blocks[b];
    for (uint32_t k = block.first; k < block.first + block.count; ++k) line(k, state, out);
  }

  void line(uint32_t k, Registers& state, std::vector<SecretUse>* out) {
    const CodeLine& l = code_.code[k];
    if (l.form == spill_form || l.form == reload_form) return kept(l, state);
    const Form* form = l.form >= first_real_form ? &target_.form(l.form) : nullptr;
    bool secret = false, address = false, reads_memory = false;
    for (const CodeOperand& o : code_.of(l)) {
      if (o.kind == OperandKind::Register && o.read && o.reg != no_register)
        secret |= state[o.reg] || stands_for_secret(o);
      if (o.kind != OperandKind::Memory && o.kind != OperandKind::Address) continue;
      const CodeAddress& a = code_.addresses[static_cast<size_t>(o.value)];
      bool part = false;
      for (Register r : {a.base, a.index}) part |= r != no_register && state[r];
      if (o.kind == OperandKind::Address) {
        secret |= part;
        continue;
      }
      address |= part;
      reads_memory |= o.read;
      const bool is_slot = a.anchor == Anchor::Slot && a.anchored < slots_.size();
      if (o.read && is_slot && a.base == no_register && a.index == no_register) secret |= slots_[a.anchored];
      if (o.read && a.anchor == Anchor::Incoming)
        secret |= std::find(incoming_.begin(), incoming_.end(), a.displacement) != incoming_.end();
    }
    if (form && clears(l)) secret = false;
    if (form) {
      for (unsigned r : form->reads) secret |= state[r];
      if (form->reads_flags) secret |= state[flags_row];
    }
    if (reads_memory) secret |= loads_secret(l) || address;
    if (out && address) leave(*out, Use::Address, k);
    if (out && form && secret) {
      const Flow flow = flow_of(*form);
      bool go = false, slow = false;
      for (const MeaningStep& step : form->meaning) {
        go |= step.kind == MeaningKind::Go;
        slow |= step.kind == MeaningKind::Compute && takes_its_time(step.op);
      }
      if (go && !flow.calls)
        leave(*out, Use::Branch, k);
      else if (go && form->reads_flags)
        leave(*out, Use::Branch, k);
      if (slow) leave(*out, Use::Time, k);
    }
    write(l, form, secret, state);
  }

  void write(const CodeLine& l, const Form* form, bool secret, Registers& state) {
    if (l.call != none) {
      const CallInfo& call = code_.calls[l.call];
      for (unsigned r : call.writes) state.reset(r);
      state.reset(flags_row);
      std::vector<Type> types;
      for (Value v : f_.results(l.origin)) types.push_back(f_.type(v));
      if (auto registers = result_registers(target_.convention, types))
        for (size_t k = 0; k < registers->size(); ++k)
          if (flow_.is_secret(c_.symbol, f_.result(l.origin, k))) state.set((*registers)[k]);
    }
    const auto operands = code_.of(l);
    for (size_t k = 0; k < operands.size(); ++k) {
      const CodeOperand& o = operands[k];
      if (o.kind != OperandKind::Register || !o.written || o.reg == no_register) continue;
      const bool whole = !form || k >= form->operands.size() || form->operands[k].clears ||
                         form->operands[k].type.total_bits() >= 32;
      state[o.reg] = secret || stands_for_secret(o) || (!whole && state[o.reg]);
    }
    if (!form || l.call != none) return;
    for (unsigned r : form->writes) state[r] = secret;
    if (form->writes_flags) state[flags_row] = secret;
  }

  // Spilled values and those that come back.
  void kept(const CodeLine& l, Registers& state) {
    const auto operands = code_.of(l);
    const bool spills = l.form == spill_form;
    const size_t slot = static_cast<size_t>(operands[1].value);
    if (slot >= slots_.size()) return;
    if (!spills) {
      state[operands[0].reg] = slots_[slot];
    } else if (state[operands[0].reg] && !slots_[slot]) {
      slots_[slot] = true;
      changed_slots_ = !changed_slots_;
    }
  }

  void leave(std::vector<SecretUse>& out, Use kind, uint32_t k) const {
    const CodeLine& l = code_.code[k];
    SecretUse use{.kind = kind, .function = c_.name};
    for (const EmittedLine& line : c_.lines)
      if (line.row == k && line.role == Role::Program) {
        use.offset = line.offset;
        break;
      }
    use.text = machine::code_text(target_, module_, f_, code_, l);
    if (l.origin.exists()) {
      use.position = place_text(module_, f_.position(l.origin));
      for (Value v : f_.operands(l.origin))
        if (use.way.empty() && !f_.is_constant(v)) use.way = flow_.way(c_.symbol, v);
      use.way.push_back(c_.name + ": " + write_text(module_, f_, l.origin));
    }
    out.push_back(std::move(use));
  }

  const Module& module_;
  const CompiledFunction& c_;
  const Code& code_;
  const Target& target_;
  const SecretFlow& flow_;
  const Function& f_;
  std::vector<Registers> in_;      // by block
  std::vector<uint8_t> slots_;     // by frame slot: whether a secret was put there
  std::vector<int64_t> incoming_;  // of the stack's arguments: where secrets lie
  bool changed_slots_ = false;
};

// Secret parameters of the source as those of the legalized functions, which may take them in parts.
SecretFlow::Sources legal_sources(const LoweredModule& lowered, const Target& target) {
  const Module& module = *lowered.legal;
  SecretFlow::Sources out(module.symbol_count());
  for (Symbol s : module.functions()) {
    const size_t count = module.function(s).parameters().size();
    out[s.index].resize(count);
    if (s.index >= lowered.source_signatures.size()) continue;
    const Passing way = passing(target.convention, lowered.source_signatures[s.index]);
    for (size_t k = 0; k < count && k < way.parameters.size(); ++k)
      if (way.parameters[k].owner >= 0)
        out[s.index][k] =
            (module[s].facts.marks_of(static_cast<size_t>(way.parameters[k].owner)) & mark::secret) != 0;
  }
  return out;
}

}  // namespace

std::vector<SecretUse> secret_uses(const Module& module) {
  const SecretFlow flow(module, SecretFlow::marked(module));
  return IrUses(module, flow).run();
}

std::vector<SecretUse> secret_uses(const LoweredModule& lowered, const Target& target) {
  const SecretFlow flow(*lowered.legal, legal_sources(lowered, target));
  std::vector<SecretUse> out;
  for (const CompiledFunction& c : lowered.functions)
    if (c.explained) CodeUses(lowered, c, target, flow).run(out);
  return out;
}

}  // namespace porphyry
