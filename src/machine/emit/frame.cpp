// The frame, from the stack pointer upwards: arguments of calls, frame objects, spilled values, saved
// registers, return address, incoming arguments.
#include <fmt/format.h>

#include <algorithm>

#include "far_addresses.h"
#include "porphyry/base/rounding.h"
#include "porphyry/machine/emit.h"

namespace porphyry::machine {
namespace {

RegisterSet kept_registers_used(const Code& f, const Target& target) {
  RegisterSet used;
  for (const CodeLine& i : f.code)
    each_register(f, i, [&](Register r, bool, bool written) {
      if (written && is_physical(r)) used.add(r);
    });
  return used & target.convention.kept;
}

}  // namespace

Diagnostics lay_out_frame(Code& f, const Target& target) {
  f.frame.saved = kept_registers_used(f, target);
  if (f.has_calls && target.convention.return_address >= 0)
    f.frame.saved.add(static_cast<unsigned>(target.convention.return_address));
  uint64_t saved = target.frame.saved_bytes(target, f.frame.saved), pushed = target.frame.return_bytes;
  std::vector<FrameSlot*> slots;
  for (FrameSlot& s : f.slots) slots.push_back(&s);
  std::stable_sort(slots.begin(), slots.end(),
                   [](const FrameSlot* a, const FrameSlot* b) { return a->align > b->align; });
  uint64_t at = round_up<uint64_t>(f.outgoing_bytes, target.convention.stack_align);
  for (FrameSlot* s : slots) {
    at = round_up<uint64_t>(at, s->align);
    s->offset = static_cast<int64_t>(at);
    at += s->bytes;
  }
  // A return address that the caller has pushed leaves the stack one word off its alignment.
  uint64_t align = f.has_calls || !f.slots.empty() ? target.convention.stack_align : target.word_bits / 8;
  f.frame.bytes = round_up<uint64_t>(at + saved + pushed, align) - saved - pushed;
  if (f.frame.bytes > most_frame_bytes)
    return {complaint(
        fmt::format("in '{}': the frame takes {} bytes", f.name, f.frame.bytes),
        fmt::format("at most {} bytes of frame objects, spilled values and arguments", most_frame_bytes))};
  for (CodeAddress& a : f.addresses) {
    if (a.anchor == Anchor::Slot) a.displacement += f.slots[a.anchored].offset;
    if (a.anchor == Anchor::Incoming) a.displacement += static_cast<int64_t>(f.frame.bytes + saved + pushed);
    bool in_frame = a.anchor == Anchor::Slot || a.anchor == Anchor::Incoming || a.anchor == Anchor::Outgoing;
    if (!in_frame) continue;
    a.anchor = Anchor::None;
    a.base = target.convention.stack;
  }
  if (target.convention.far >= 0) reach_far_addresses(f, target);
  return {};
}

}  // namespace porphyry::machine
