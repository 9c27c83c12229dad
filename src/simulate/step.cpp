#include "porphyry/simulate/step.h"

#include <algorithm>

namespace porphyry::simulate {

using namespace machine;

State::State(const Target& target) : flags(target.flags.size()) {
  for (const RegisterClass& c : target.classes) registers.resize(registers.size() + c.count);
}

namespace {

class Stepper {
 public:
  Stepper(const Target& target, const PlainInstruction& i, State& state, const MemoryAccess& memory)
      : target_(target), form_(target.form(i.form)), i_(i), state_(state), memory_(memory) {}

  StepOutcome run() {
    for (const MeaningStep& s : form_.meaning) {
      step(s);
      if (out_.end != StepOutcome::End::Next) break;
    }
    return std::move(out_);
  }

 private:
  static constexpr unsigned most_lanes = 128;

  void fault() { out_.end = StepOutcome::End::Fault; }

  void step(const MeaningStep& s) {
    switch (s.kind) {
      case MeaningKind::Compute: return compute_step(s);
      case MeaningKind::Copy: return write(s.to, read(s.arguments[0]));
      case MeaningKind::Load:
        return write(s.to, load(static_cast<uint64_t>(read(s.arguments[0])), s.to.type));
      case MeaningKind::Store: {
        Bits v = read(s.arguments[0]);
        return store(static_cast<uint64_t>(read(s.arguments[1])), s.arguments[0].type, v);
      }
      case MeaningKind::Open: out_.open_flags.emplace_back(target_.flags[s.to.index]); return;
      case MeaningKind::Trap:
        if (read(s.arguments[0])) out_.end = StepOutcome::End::Trap;
        return;
      case MeaningKind::Go:
        if (!read(s.arguments[1])) return;
        out_.to = static_cast<uint64_t>(read(s.arguments[0]));
        out_.end = StepOutcome::End::Gone;
        return;
    }
  }

  void compute_step(const MeaningStep& s) {
    Bits arguments[3];
    unsigned count = info(s.op).arity();
    bool any_lanes = s.to.type.has_lanes();
    for (unsigned k = 0; k < count; ++k) any_lanes |= s.arguments[k].type.has_lanes();
    if (any_lanes) return compute_on_lanes(s, count);
    for (unsigned k = 0; k < count; ++k) arguments[k] = read(s.arguments[k]);
    Computed c = compute(s.op, s.arguments[count - 1].type, s.to.type, {arguments, count});
    if (c.trapped)
      out_.end = StepOutcome::End::Trap;
    else
      write(s.to, c.bits & mask_of(s.to.type.bits()));
  }

  // Lanes lie side by side in a word; the computation has a word for each.
  void compute_on_lanes(const MeaningStep& s, unsigned count) {
    Bits in[3 * most_lanes], out[most_lanes];
    Type types[3];
    size_t at = 0;
    for (unsigned k = 0; k < count; ++k) {
      types[k] = s.arguments[k].type;
      Bits packed = read(s.arguments[k]);
      for (unsigned lane = 0; lane < types[k].lanes(); ++lane)
        in[at++] = packed >> lane * types[k].bits() & mask_of(types[k].bits());
    }
    Type to = s.to.type;
    if (!compute_lanes(s.op, {types, count}, {&to, 1}, {in, at}, {out, to.lanes()})) {
      out_.end = StepOutcome::End::Trap;
      return;
    }
    Bits packed = 0;
    for (unsigned lane = 0; lane < to.lanes(); ++lane)
      packed |= (out[lane] & mask_of(to.bits())) << lane * to.bits();
    write(s.to, packed);
  }

  // Lanes lie in memory one behind the other, whatever the order of bytes in each.
  bool lane_by_lane(Type t) const { return t.has_lanes() && target_.layout.order == ByteOrder::Big; }
  Bits load(uint64_t address, Type t) {
    if (lane_by_lane(t)) {
      Bits all = 0;
      for (unsigned lane = 0; lane < t.lanes(); ++lane)
        all |= load(address + lane * t.element_bytes(), t.element()) << lane * t.bits();
      return all;
    }
    auto v = memory_.load(address, t.bytes());
    if (!v) fault();
    return v.value_or(0);
  }
  void store(uint64_t address, Type t, Bits v) {
    if (!lane_by_lane(t)) {
      if (!memory_.store(address, t.bytes(), v)) fault();
      return;
    }
    for (unsigned lane = 0; lane < t.lanes(); ++lane)
      store(address + lane * t.element_bytes(), t.element(), v >> lane * t.bits());
  }

  uint64_t address_of(const PlainAddress& a) const {
    uint64_t sum = static_cast<uint64_t>(static_cast<int64_t>(a.displacement));
    if (a.relative) sum += state_.next;
    if (a.base >= 0) sum += static_cast<uint64_t>(state_.registers[static_cast<size_t>(a.base)]);
    if (a.index >= 0) sum += static_cast<uint64_t>(state_.registers[static_cast<size_t>(a.index)]) * a.scale;
    return sum & static_cast<uint64_t>(mask_of(target_.layout.pointer_bits));
  }

  // An operand in memory; nothing (and a trap) where it must lie at a multiple of its size and does not.
  std::optional<uint64_t> place_of(const FormOperand& shape, const PlainAddress& a, unsigned bytes) {
    uint64_t at = address_of(a);
    if (!shape.aligned || at % bytes == 0) return at;
    out_.end = StepOutcome::End::Trap;
    return std::nullopt;
  }

  static Bits literal(const Term& p) {
    if (!p.type.has_lanes())
      return static_cast<Bits>(static_cast<__int128>(static_cast<int64_t>(p.literal))) &
             mask_of(p.type.bits());
    Bits all = 0;
    for (unsigned lane = 0; lane < p.type.lanes(); ++lane)
      all |= (p.literal & mask_of(p.type.bits())) << lane * p.type.bits();
    return all;
  }

  Bits read(const Term& p) {
    Bits mask = mask_of(p.type.total_bits());
    switch (p.kind) {
      case TermKind::Temporary: return temporaries_[p.index];
      case TermKind::Register: return state_.registers[p.index] & mask;
      case TermKind::Flag: return state_.flags[p.index] ? 1 : 0;
      case TermKind::Literal: return literal(p);
      case TermKind::Next: return state_.next;
      case TermKind::None: return 0;
      case TermKind::Operand: break;
    }
    const PlainOperand& o = i_.operands[p.index];
    const FormOperand& shape = form_.operands[p.index];
    switch (shape.kind) {
      case OperandKind::Register: return state_.registers[o.physical] & mask;
      case OperandKind::Memory: {
        auto at = place_of(shape, o.address, p.type.bytes());
        return at ? load(*at, p.type) : 0;
      }
      case OperandKind::Address: return address_of(o.address);
      case OperandKind::Literal: return static_cast<Bits>(static_cast<__int128>(o.literal)) & mask;
      case OperandKind::Label:
      case OperandKind::Symbol: return (state_.next + static_cast<uint64_t>(o.literal)) & mask;
    }
    return 0;
  }

  // What a write narrower than the register does to the rest: a class's views say it, or the operand does.
  void write_register(unsigned physical, unsigned bits, bool clears, Bits v) {
    const RegisterClass& c = target_.classes[target_.class_of(physical)];
    for (const RegisterView& view : c.views)
      if (view.bits == bits && view.rest == Rest::Clears) clears = true;
    Bits mask = mask_of(bits), whole = mask_of(c.bits);
    Bits& r = state_.registers[physical];
    r = ((clears ? 0 : r & ~mask) | (v & mask)) & whole;
  }

  void write(const Term& p, Bits v) {
    switch (p.kind) {
      case TermKind::Temporary:
        if (p.index >= temporaries_.size()) temporaries_.resize(p.index + 1u);
        temporaries_[p.index] = v;
        return;
      case TermKind::Register: return write_register(p.index, p.type.total_bits(), false, v);
      case TermKind::Flag: {
        state_.flags[p.index] = v & 1;
        auto& open = out_.open_flags;  // said again after all
        open.erase(std::remove(open.begin(), open.end(), target_.flags[p.index]), open.end());
        return;
      }
      case TermKind::Operand: break;
      default: return;
    }
    const FormOperand& shape = form_.operands[p.index];
    const PlainOperand& o = i_.operands[p.index];
    if (shape.kind == OperandKind::Register)
      return write_register(o.physical, p.type.total_bits(), shape.clears, v);
    auto at = place_of(shape, o.address, p.type.bytes());
    if (at) store(*at, p.type, v);
  }

  const Target& target_;
  const Form& form_;
  const PlainInstruction& i_;
  State& state_;
  const MemoryAccess& memory_;
  std::vector<Bits> temporaries_;
  StepOutcome out_;
};

}  // namespace

StepOutcome step(const Target& target, const PlainInstruction& i, State& state, const MemoryAccess& memory) {
  return Stepper(target, i, state, memory).run();
}

}  // namespace porphyry::simulate
