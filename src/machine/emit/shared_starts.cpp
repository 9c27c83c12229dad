// Idea: both ways out of a branch often put the same numbers into the same registers, as what goes around a
// loop that is never entered begins from the same zeros as the loop. Put in front of the branch, they stand
// there once, and a way that did nothing else is no block any more. Invariant: a line moves up only over
// lines that neither name the register it writes nor write the one it reads; what both ways begin with is
// taken in the order that it has on both. Cost: a few lines of each block, and writing the code again where
// any moved.
#include "shared_starts.h"

#include <algorithm>
#include <optional>

namespace porphyry::machine {
namespace {

constexpr uint32_t most_lines = 8;  // of the beginning of a way

class StartSharer {
 public:
  StartSharer(Code& f, const Target& target) : f_(f), target_(target), ways_in_(f.blocks.size()) {}

  void run() {
    for (const CodeBlock& b : f_.blocks)
      for (uint32_t to : f_.successors(b)) ++ways_in_[to];
    for (uint32_t b = 0; b < f_.blocks.size(); ++b) {
      const auto to = f_.successors(f_.blocks[b]);
      if (to.size() != 2 || to[0] == to[1] || !only_from_here(to[0]) || !only_from_here(to[1])) continue;
      if (const auto tail = tail_of(f_.blocks[b])) share(b, *tail, f_.blocks[to[0]], f_.blocks[to[1]]);
    }
    if (!moves_.empty()) write_again(f_, moves_, gone_);
  }

 private:
  bool only_from_here(uint32_t b) const { return b != 0 && ways_in_[b] == 1; }
  uint32_t end(const CodeBlock& b) const { return b.first + b.count; }
  bool jumps(const CodeLine& i) const { return i.form >= first_real_form && target_.form(i.form).is_jump; }

  // Where the branch at the end of a block begins: with what sets the flags that its jumps read.
  std::optional<uint32_t> tail_of(const CodeBlock& b) const {
    uint32_t k = end(b);
    bool by_flags = false;
    for (; k > b.first && jumps(f_.code[k - 1]); --k) by_flags |= reads_flags(target_, f_.code[k - 1]);
    if (k == end(b)) return std::nullopt;
    if (!by_flags) return k;
    while (k > b.first && !writes_flags(target_, f_, f_.code[k - 1])) --k;
    return k > b.first ? std::optional(k - 1) : std::nullopt;
  }

  // A line that puts a number or another register into one, and does nothing else.
  bool is_simple(const CodeLine& i) const {
    if (i.call != none || i.operand_count == 0 || i.operand_count > 2) return false;
    if (i.form != copy_form && (i.form < first_real_form || target_.form(i.form).touches_more()))
      return false;
    const auto operands = f_.of(i);
    if (operands[0].kind != OperandKind::Register || operands[0].read || !is_physical(operands[0].reg))
      return false;
    if (i.form == copy_form) return operands[1].kind == OperandKind::Register;
    return operands.size() == 1 || operands[1].kind == OperandKind::Literal;
  }
  uint32_t end_of_start(const CodeBlock& b) const {
    uint32_t k = b.first;
    while (k < std::min(end(b), b.first + most_lines) && is_simple(f_.code[k])) ++k;
    return k;
  }
  bool same(const CodeLine& a, const CodeLine& b) const {
    return a.form == b.form &&
           std::ranges::equal(f_.of(a), f_.of(b), [](const CodeOperand& x, const CodeOperand& y) {
             return x.kind == y.kind && x.reg == y.reg && x.value == y.value && x.part == y.part;
           });
  }

  // Whether a simple line may stand in front of others behind which it stands now.
  bool passes(const CodeLine& line, uint32_t from, uint32_t to) const {
    const Register into = f_.of(line)[0].reg;
    const Register source = line.form == copy_form ? f_.of(line)[1].reg : no_register;
    bool free = true;
    for (uint32_t k = from; k < to && free; ++k) {
      if (gone(k)) continue;
      const CodeLine& i = f_.code[k];
      each_register(f_, i,
                    [&](Register r, bool, bool written) { free &= r != into && !(written && r == source); });
      const RegisterSet reads = implicit_reads(target_, f_, i), writes = implicit_writes(target_, f_, i);
      free &= !reads.has(into) && !writes.has(into) && !(source != no_register && writes.has(source));
    }
    return free;
  }

  void share(uint32_t b, uint32_t tail, const CodeBlock& one, const CodeBlock& other) {
    uint32_t next = other.first;
    const uint32_t end_of_one = end_of_start(one), end_of_other = end_of_start(other);
    for (uint32_t k = one.first; k < end_of_one; ++k) {
      const CodeLine& line = f_.code[k];
      uint32_t j = next;
      while (j < end_of_other && !same(line, f_.code[j])) ++j;
      if (j == end_of_other || !passes(line, tail, end(f_.blocks[b])) || !passes(line, one.first, k) ||
          !passes(line, other.first, j))
        continue;
      moves_.push_back({tail, k});
      mark(k), mark(j);
      next = j + 1;
    }
  }
  bool gone(uint32_t k) const { return !gone_.empty() && gone_[k]; }
  void mark(uint32_t k) {
    gone_.resize(f_.code.size());
    gone_[k] = 1;
  }

  Code& f_;
  const Target& target_;
  std::vector<uint32_t> ways_in_;  // by block
  std::vector<LineCopy> moves_;    // in the order of the code
  std::vector<uint8_t> gone_;      // by line, once there are such
};

}  // namespace

void share_starts(Code& f, const Target& target) { StartSharer(f, target).run(); }

}  // namespace porphyry::machine
