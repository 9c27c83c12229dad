// Accesses, frame objects, blocks of memory, and what is promised of pointers.
#include <fmt/format.h>

#include "machine.h"

namespace porphyry {

using eval::Access;
using eval::Step;

// `operands` are the slots of the pointer and, when there is one, the index.
Access Evaluator::Machine::access_of(const Address& a, const uint32_t* operands, const Datum* slots) const {
  Datum pointer = slots[operands[0]];
  uint64_t address = pointer.bits + static_cast<uint64_t>(a.offset);
  if (a.indexed) {
    uint64_t index = slots[operands[1]].bits;
    if (module_.layout.pointer_bits == 32) index = static_cast<uint64_t>(static_cast<int32_t>(index));
    address += index * static_cast<uint64_t>(a.scale);
  }
  if (module_.layout.pointer_bits == 32) address &= 0xffffffffu;
  return {pointer, address, &a};
}

void Evaluator::Machine::memory_step(Frame& frame, const Step& s, Datum* slots) {
  const uint32_t* operands = frame.plan->lists.data() + s.all.first;
  switch (info(s.op).layout) {
    case Layout::Load:
    case Layout::Store: return load_or_store(s, slots);
    case Layout::At: {
      Access a = access_of(*s.address, operands, slots);
      slots[s.out] = {a.address, a.pointer.high};
      return;
    }
    case Layout::Reserve: return reserve(frame, s, slots);
    case Layout::AddressOf: slots[s.out] = symbol_address(body().symbol(s.origin)); return;
    case Layout::Release: return release(s, slots);
    case Layout::Copy:
    case Layout::Fill: return copy_or_fill(s, slots);
    case Layout::Renew:
      if (!memory_.renew(slots[s.slots[0]], slots[s.slots[1]].bits)) fault(memory_.fault);
      return;
    case Layout::Sole: return sole(s, slots);
    default:  // end q
      memory_.derivations().end(eval::Derivations::of(slots[s.slots[0]]));
  }
}

void Evaluator::Machine::load_or_store(const Step& s, Datum* slots) {
  const Address& a = *s.address;
  bool loads = s.op == Op::Load;
  Type type = loads ? s.result : s.operand;
  const uint32_t* operands = frames_.back().plan->lists.data() + s.all.first + (loads ? 0 : type.lanes());
  Access access = access_of(a, operands, slots);
  const Datum* active = nullptr;
  if (a.masked) {
    active = slots + operands[a.operand_count()];
    const Datum* others = slots + operands[a.operand_count() + type.lanes()];
    for (unsigned k = 0; loads && k < type.lanes(); ++k)
      if (!(active[k].bits & 1)) slots[s.out + k] = others[k];
  }
  bool good = loads ? memory_.load(access, type, {slots + s.out, type.lanes()}, active)
                    : memory_.store(access, type, {slots + s.slots[0], type.lanes()}, active);
  if (!good && access.how && access.how->guarded && memory_.is_outside)
    return end(Outcome::End::Trap, memory_.fault);
  if (!good) return fault(memory_.fault);
  if (memory_.exhausted())
    end(Outcome::End::Exhausted,
        fmt::format("the run used more than {} bytes of memory", options_.memory_limit));
}

void Evaluator::Machine::reserve(Frame& frame, const Step& s, Datum* slots) {
  const ReserveShape& shape = body().reserve_shape(s.origin);
  Name name = body().name(body().result(s.origin));
  uint32_t id = memory_.make(shape.bytes, shape.align,
                             name.exists() ? std::string(module_.text(name)) : "reserved bytes",
                             eval::Origin::Reserved);
  if (memory_.exhausted())
    return end(Outcome::End::Exhausted,
               fmt::format("the run used more than {} bytes of memory", options_.memory_limit));
  Datum& held = slots_[frame.base + s.extra];
  if (held.bits && memory_.is_live(static_cast<uint32_t>(held.bits)))
    memory_.end_life(static_cast<uint32_t>(held.bits));
  held.bits = id;
  slots[s.out] = {memory_.address(id), id};
}

void Evaluator::Machine::release(const Step& s, Datum* slots) {
  Datum p = slots[s.slots[0]];
  uint32_t id = p.object();
  if (id == 0) return fault("'release' of a pointer to no object");
  if (memory_.origin(id) != eval::Origin::Reserved)
    return fault(fmt::format("'release' of '{}', which no 'reserve' made", memory_.name(id)));
  if (!memory_.is_live(id))
    return fault(fmt::format("'release' of '{}' after its life ended", memory_.name(id)));
  if (p.bits != memory_.address(id))
    return fault(
        fmt::format("'release' of '{}' through a pointer that is not to its start", memory_.name(id)));
  memory_.end_life(id);
}

void Evaluator::Machine::copy_or_fill(const Step& s, Datum* slots) {
  const uint32_t* operands = frames_.back().plan->lists.data() + s.all.first;
  uint64_t bytes = slots[operands[s.all.count - 1]].bits;
  bool good;
  if (s.op == Op::Fill) {
    Access to = access_of(*s.address, operands + 1, slots);
    good = memory_.fill(to, static_cast<uint8_t>(slots[operands[0]].bits), bytes);
  } else {
    const CopyShape& shape = body().copy_shape(s.origin);
    Access to = access_of(shape.to, operands, slots);
    Access from = access_of(shape.from, operands + shape.to.operand_count(), slots);
    good = memory_.copy(to, from, bytes);
  }
  if (!good) fault(memory_.fault);
}

void Evaluator::Machine::sole(const Step& s, Datum* slots) {
  Datum p = slots[s.slots[0]];
  if (p.object()) {
    p = memory_.derivations().promised(p, true, false);
    promises_.push_back(eval::Derivations::of(p));
  }
  slots[s.out] = p;
}

}  // namespace porphyry
