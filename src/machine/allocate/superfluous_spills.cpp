// Spills and reloads that the code around them makes superfluous.
#include "split.h"

namespace porphyry::machine {
namespace {

class SpillRemover {
 public:
  SpillRemover(Allocation& out, const Target& target, const Pieces& pieces, std::pmr::memory_resource* work)
      : f_(out.code),
        target_(target),
        ours_(f_.slots.size(), work),
        reloads_(f_.slots.size(), work),
        dead_in_(f_.slots.size(), none, work) {
    for (const Piece& p : pieces.of)
      if (p.slot != none) ours_[p.slot] = 1;
  }

  void run() {
    for (const CodeBlock& b : f_.blocks) forward(b);
    for (uint32_t b = 0; b < f_.blocks.size(); ++b) backward(b);
    for (size_t s = 0; s < f_.slots.size(); ++s)
      if (ours_[s] && !reloads_[s]) f_.slots[s].bytes = 0;
  }

 private:
  uint32_t slot_of(const CodeLine& i) const { return static_cast<uint32_t>(f_.of(i)[1].value); }

  void forget(const RegisterSet& written) {
    for (unsigned r : written) slot_in_[r] = none;
  }

  // Which slot's value each register holds is known from spills and reloads.
  void forward(const CodeBlock& b) {
    std::fill_n(slot_in_, registers_, none);
    for (uint32_t k = b.first; k < b.first + b.count; ++k) {
      CodeLine& i = f_.code[k];
      if (i.form == spill_form || i.form == reload_form) {
        uint32_t slot = slot_of(i);
        Register r = f_.of(i)[0].reg;
        if (i.form == spill_form) {
          for (uint32_t& s : std::span(slot_in_, registers_))
            if (s == slot) s = none;
        } else if (!from_register(i, slot)) {
          ++reloads_[slot];
        }
        slot_in_[r] = slot;
        continue;
      }
      each_register(f_, i, [&](Register r, bool, bool written) {
        if (written) slot_in_[r] = none;
      });
      forget(implicit_writes(target_, f_, i));
    }
  }

  // A reload of what a register holds becomes a copy, or nothing.
  bool from_register(CodeLine& i, uint32_t slot) {
    auto operands = f_.of(i);
    Register into = operands[0].reg, holder = slot_in_[into] == slot ? into : no_register;
    for (Register r = 0; r < registers_ && holder == no_register; ++r)
      if (slot_in_[r] == slot && target_.class_of(r) == target_.class_of(into)) holder = r;
    if (holder == no_register) return false;
    i.form = copy_form;
    operands[0].value = 64;
    operands[1] = {OperandKind::Register, true, false, Part::Whole, holder, 0};
    return true;
  }

  // A spill is dead when the slot is spilled to again in the block before it is reloaded, or never reloaded.
  void backward(uint32_t b) {
    const CodeBlock& block = f_.blocks[b];
    for (uint32_t k = block.first + block.count; k-- > block.first;) {
      CodeLine& i = f_.code[k];
      if (i.form == reload_form) dead_in_[slot_of(i)] = none;
      if (i.form != spill_form) continue;
      uint32_t slot = slot_of(i);
      if (dead_in_[slot] == b || reloads_[slot] == 0) {
        auto operands = f_.of(i);
        i.form = copy_form;  // of a register to itself: nothing
        operands[1] = operands[0];
        operands[0].read = false, operands[0].written = true;
      }
      dead_in_[slot] = b;
    }
  }

  Code& f_;
  const Target& target_;
  std::pmr::vector<uint8_t> ours_;      // by slot: made by splitting
  std::pmr::vector<uint32_t> reloads_;  // by slot
  std::pmr::vector<uint32_t>
      dead_in_;  // by slot: block in which it is spilled to again before it is reloaded
  const size_t registers_ = target_.register_count();
  uint32_t slot_in_[first_virtual] = {};
};

}  // namespace

void remove_superfluous_spills(Allocation& out, const Target& target, const Pieces& pieces,
                               std::pmr::memory_resource* work) {
  SpillRemover(out, target, pieces, work).run();
}

}  // namespace porphyry::machine
