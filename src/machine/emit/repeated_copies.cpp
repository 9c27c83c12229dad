// Idea: a value is copied out of a register that an instruction demands, and back into it for the next one
// that does; the second copy brings what is there.
//
// Each register has the number of what it holds. A copy gives its target the number of its source, any other
// write a new one. Invariant: registers of one number agree in as many low bits as the narrowest copy between
// them moved. What is known holds on into a block that is only come to from the one in front of it.
#include "repeated_copies.h"

#include <algorithm>
#include <array>

namespace porphyry::machine {
namespace {

class CopyRemover {
 public:
  CopyRemover(Code& f, const Target& target) : f_(f), target_(target), ways_in_(f.blocks.size()) {}

  void run() {
    for (const CodeBlock& b : f_.blocks)
      for (uint32_t to : f_.successors(b)) ++ways_in_[to];
    for (uint32_t b = 0; b < f_.blocks.size(); ++b) {
      const bool goes_on = b > 0 && ways_in_[b] == 1 && comes_from_before(b);
      if (!goes_on)
        for (unsigned r = 0; r < target_.register_count(); ++r) write(r);
      for (uint32_t k = f_.blocks[b].first; k < f_.blocks[b].first + f_.blocks[b].count; ++k)
        line(f_.code[k]);
    }
  }

 private:
  struct Held {
    uint32_t number = 0;
    uint32_t bits = 0;  // that are as in the others of the number
  };

  bool comes_from_before(uint32_t b) const {
    auto to = f_.successors(f_.blocks[b - 1]);
    return std::find(to.begin(), to.end(), b) != to.end();
  }
  void write(unsigned r) { held_[r] = {++last_, ~0u}; }

  void line(CodeLine& i) {
    if (i.form == copy_form) {
      auto operands = f_.of(i);
      const Register to = operands[0].reg, from = operands[1].reg;
      const auto bits = static_cast<uint32_t>(operands[0].value);
      if (to == from) return;
      if (target_.class_of(to) != target_.class_of(from)) return write(to);
      Held &known = held_[to], &source = held_[from];
      if (known.number == source.number && bits <= std::min(known.bits, source.bits))
        operands[1].reg = to;  // of a register to itself: nothing
      else
        known = {source.number, std::min(bits, source.bits)};
      return;
    }
    each_register(f_, i, [&](Register r, bool, bool written) {
      if (written) write(r);
    });
    for (unsigned r : implicit_writes(target_, f_, i)) write(r);
  }

  Code& f_;
  const Target& target_;
  std::vector<uint32_t> ways_in_;  // by block
  std::array<Held, first_virtual> held_{};
  uint32_t last_ = 0;
};

}  // namespace

void drop_repeated_copies(Code& f, const Target& target) { CopyRemover(f, target).run(); }

}  // namespace porphyry::machine
