#include "reuse_flags.h"

#include <algorithm>

namespace porphyry::machine {
namespace {

constexpr uint32_t furthest = 8;  // instructions that one may move down over

class FlagReuse {
 public:
  FlagReuse(Code& f, const Target& target) : f_(f), target_(target) {}

  void run() {
    uint32_t kept = 0;
    for (CodeBlock& b : f_.blocks) {
      uint32_t first = kept;
      for (uint32_t k = b.first; k < b.first + b.count; ++k) {
        if (is_test(f_.code[k]) && replaces(first, kept, k, b.first + b.count)) continue;
        if (only_sets_flags(f_.code[k]) && repeats(first, kept, k)) continue;
        if (kept != k) f_.code[kept] = f_.code[k];
        ++kept;
      }
      b.first = first, b.count = kept - first;
    }
    f_.code.resize(kept);
  }

 private:
  const Form& form(const CodeLine& i) const { return target_.form(i.form); }
  bool real(const CodeLine& i) const { return i.form >= first_real_form; }
  bool writes_flags(const CodeLine& i) const { return machine::writes_flags(target_, f_, i); }
  bool is_test(const CodeLine& i) const {
    return real(i) && form(i).tests && f_.of(i)[0].reg == f_.of(i)[1].reg;
  }

  // A comparison of registers and numbers.
  bool only_sets_flags(const CodeLine& i) const {
    if (!real(i) || !form(i).writes_flags || form(i).is_jump || i.call != none) return false;
    if (!(implicit_reads(target_, f_, i) | implicit_writes(target_, f_, i)).empty()) return false;
    for (const CodeOperand& o : f_.of(i))
      if (o.kind == OperandKind::Register ? o.written : o.kind != OperandKind::Literal) return false;
    return !form(i).reads_flags;
  }
  // Whether the last instruction that sets flags is the same, and nothing between changes what it compares.
  bool repeats(uint32_t first, uint32_t kept, uint32_t k) const {
    const CodeLine& again = f_.code[k];
    for (uint32_t j = kept; j > first && j + furthest > kept; --j) {
      const CodeLine& i = f_.code[j - 1];
      if (writes_flags(i)) {
        auto same = [](const CodeOperand& a, const CodeOperand& b) {
          return a.kind == b.kind && a.reg == b.reg && a.value == b.value && a.part == b.part;
        };
        return i.form == again.form && std::ranges::equal(f_.of(i), f_.of(again), same);
      }
      if (i.call != none) return false;
      for (const CodeOperand& o : f_.of(again))
        if (o.kind == OperandKind::Register && writes(i, o.reg)) return false;
    }
    return false;
  }

  // The flags that are read between `k` and what sets them next; they do not outlive their block.
  FlagSet read_behind(uint32_t k, uint32_t end) const {
    FlagSet read = 0;
    for (uint32_t j = k + 1; j < end; ++j) {
      if (real(f_.code[j])) read |= form(f_.code[j]).flags_read;
      if (writes_flags(f_.code[j])) break;
    }
    return read;
  }

  // Whether the lines from `first` to `kept`, behind which the test at `k` would come, make it superfluous.
  bool replaces(uint32_t first, uint32_t kept, uint32_t k, uint32_t end) {
    Register tested = f_.of(f_.code[k])[0].reg;
    bool flags_between = false;
    for (uint32_t j = kept; j > first && j + furthest > kept; --j) {
      const CodeLine& i = f_.code[j - 1];
      if (writes(i, tested)) {
        if (!real(i) || i.call != none || f_.of(i)[0].reg != tested) return false;
        bool same_width = f_.of(i)[0].kind == OperandKind::Register && f_.of(i)[0].written &&
                          form(i).operands[0].type == form(f_.code[k]).operands[0].type;
        if (!same_width || read_behind(k, end) & ~form(i).flags_as_tested) return false;
        if (!flags_between) return true;
        if (!may_sink(j - 1, kept)) return false;
        std::rotate(f_.code.begin() + (j - 1), f_.code.begin() + j, f_.code.begin() + kept);
        return true;
      }
      if (i.call != none) return false;
      flags_between |= writes_flags(i);
    }
    return false;
  }

  bool writes(const CodeLine& i, Register wanted) const {
    for (const CodeOperand& o : f_.of(i))
      if (o.kind == OperandKind::Register && o.written && o.reg == wanted) return true;
    return false;
  }

  // Whether the line at `j` may as well stand behind those up to `end`: a plain computation whose registers
  // nothing between touches, and whose own flags are not read there.
  bool may_sink(uint32_t j, uint32_t end) const {
    const CodeLine& moved = f_.code[j];
    if (!(implicit_reads(target_, f_, moved) | implicit_writes(target_, f_, moved)).empty()) return false;
    for (const CodeOperand& o : f_.of(moved))
      if (o.kind == OperandKind::Memory || (o.kind == OperandKind::Register && is_physical(o.reg)))
        return false;
    bool flags_gone = false;
    for (uint32_t k = j + 1; k < end; ++k) {
      const CodeLine& i = f_.code[k];
      if (!flags_gone && real(i) && form(i).flags_read) return false;
      flags_gone |= writes_flags(i);
      bool clash = false;
      each_register(f_, i, [&](Register r, bool read, bool written) {
        each_register(f_, moved,
                      [&](Register m, bool, bool makes) { clash |= r == m && (written || (read && makes)); });
      });
      if (clash) return false;
    }
    return true;
  }

  Code& f_;
  const Target& target_;
};

}  // namespace

void reuse_flags(Code& code, const Target& target) { FlagReuse(code, target).run(); }

}  // namespace porphyry::machine
