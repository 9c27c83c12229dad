// A zero is cheaper as a register's difference from itself, all ones as a short literal's bits put in, and a
// sum into one of its operands as an addition, one of 1 as a step, but for the flags; a word whose upper half
// is zero, as its lower half alone. Whether somebody reads those is asked backward: at a block's end when a
// block behind it reads flags before it writes them.
#include "shorter.h"

#include <algorithm>

#include "empty_blocks.h"

namespace porphyry::machine {
namespace {

class Shortener {
 public:
  Shortener(Code& f, const Target& target) : f_(f), target_(target), wanted_(f.blocks.size()) {}

  void run() {
    if (!target_.upkeep.half.clear && !target_.upkeep.whole.clear) return;
    flow();
    for (uint32_t b = 0; b < f_.blocks.size(); ++b) {
      bool wanted = wanted_behind(b);
      const CodeBlock& block = f_.blocks[b];
      for (uint32_t k = block.first + block.count; k-- > block.first;) {
        if (f_.counts_bytes) leave_rest(block.first, k);
        load_half(f_.code[k]);
        if (!wanted) shorten(f_.code[k]);
        wanted = before(f_.code[k], wanted);
      }
    }
    if (!gone_.empty()) write_again(f_, {}, gone_);
  }

 private:
  // Whether flags are wanted in front of a line.
  bool before(const CodeLine& i, bool behind) const {
    if (reads_flags(target_, i)) return behind || !only_passes_on(target_.form(i.form));
    return behind && !writes_flags(target_, f_, i);
  }
  // Whether flags that it reads come to nothing but flags: shifts leave them as they were when they shift by
  // zero.
  static bool only_passes_on(const Form& form) {
    return std::all_of(form.meaning.begin(), form.meaning.end(), [](const MeaningStep& m) {
      auto is_flag = [](const Term& t) { return t.kind == TermKind::Flag; };
      return std::none_of(std::begin(m.arguments), std::end(m.arguments), is_flag) ||
             (m.kind == MeaningKind::Compute && is_flag(m.to));
    });
  }
  bool wanted_behind(uint32_t b) const {
    const auto to = f_.successors(f_.blocks[b]);
    return std::any_of(to.begin(), to.end(), [&](uint32_t s) { return wanted_[s] != 0; });
  }
  // Which blocks want the flags that come to them.
  void flow() {
    for (bool changed = true; changed;) {
      changed = false;
      for (uint32_t b = static_cast<uint32_t>(f_.blocks.size()); b-- > 0;) {
        bool wanted = wanted_behind(b);
        const CodeBlock& block = f_.blocks[b];
        for (uint32_t k = block.first + block.count; k-- > block.first;) wanted = before(f_.code[k], wanted);
        if (wanted && !wanted_[b]) wanted_[b] = changed = true;
      }
    }
  }

  void shorten(CodeLine& i) {
    if (i.form < first_real_form || i.operand_count != 2) return;
    for (const ShorterForms* s : {&target_.upkeep.half, &target_.upkeep.whole}) {
      if (same_group(i.form, s->literal) && s->clear) return literal(i, *s);
      if (i.form == s->address && s->sum) sum(i, *s);
      if (same_group(i.form, s->sum_literal)) return step(i, *s);
    }
  }
  bool same_group(FormIndex a, FormIndex b) const {
    return b && target_.form(a).first_in_group == target_.form(b).first_in_group;
  }

  // A whole word whose upper half is zero, by an instruction on the lower half that clears the rest.
  void load_half(CodeLine& i) {
    const FormIndex half = target_.upkeep.half.literal;
    if (i.form < first_real_form || i.operand_count != 2 || !half || !half_clears() ||
        !same_group(i.form, target_.upkeep.whole.literal))
      return;
    auto operands = f_.of(i);
    if (operands[0].kind != OperandKind::Register || operands[1].kind != OperandKind::Literal ||
        operands[1].part != Part::Whole || !is_physical(operands[0].reg))
      return;
    if (static_cast<uint64_t>(operands[1].value) >> (target_.word_bits / 2u)) return;
    i.form = half;
  }
  bool half_clears() const {
    const FormOperand& o = target_.form(target_.upkeep.half.literal).operands[0];
    if (o.kind != OperandKind::Register) return false;
    for (const RegisterView& v : target_.classes[o.register_class].views)
      if (v.bits == o.type.total_bits()) return o.clears || v.rest == Rest::Clears;
    return false;
  }

  // A register of floats whose rest an instruction keeps need not be cleared for that, but for who waits for
  // what it held.
  void leave_rest(uint32_t first, uint32_t k) {
    uint32_t j = k;
    while (j > first && is_no_copy(f_, f_.code[j - 1])) --j;
    if (j == first) return;
    const CodeLine &i = f_.code[k], &clear = f_.code[--j];
    if (clear.form < first_real_form || i.form < first_real_form || clear.operand_count != 1) return;
    const CodeOperand &cleared = f_.of(clear)[0], &kept = f_.of(i)[0];
    if (i.operand_count == 0 || cleared.kind != OperandKind::Register || cleared.read ||
        kept.reg != cleared.reg || kept.kind != OperandKind::Register || !keeps_rest(target_.form(i.form)))
      return;
    for (const CodeOperand& o : f_.of(i).subspan(1))
      if (o.kind == OperandKind::Register && o.reg == kept.reg) return;
    gone_.resize(f_.code.size());
    gone_[j] = 1;
  }
  // Whether nothing is computed of what its first operand held.
  static bool keeps_rest(const Form& form) {
    const FormOperand& o = form.operands[0];
    if (o.kind != OperandKind::Register || o.register_class == 0 || !o.read || !o.written ||
        !o.type.is_float())
      return false;
    return std::ranges::none_of(form.meaning, [](const MeaningStep& m) {
      return std::ranges::any_of(m.arguments,
                                 [](const Term& t) { return t.kind == TermKind::Operand && t.index == 0; });
    });
  }

  void literal(CodeLine& i, const ShorterForms& s) {
    auto operands = f_.of(i);
    if (operands[0].kind != OperandKind::Register || operands[1].kind != OperandKind::Literal) return;
    if (operands[1].part != Part::Whole || !is_physical(operands[0].reg)) return;
    if (operands[1].value == 0) {
      i.form = s.clear;
      operands[1] = operands[0];
      operands[1].written = false;
    } else if (const Bits all = mask_of(target_.form(i.form).operands[0].type.bits());
               f_.counts_bytes && s.ones && (static_cast<Bits>(operands[1].value) & all) == all) {
      i.form = s.ones;
      operands[1].value = -1;
    }
  }
  void step(CodeLine& i, const ShorterForms& s) {
    auto operands = f_.of(i);
    if (operands[0].kind != OperandKind::Register || operands[1].kind != OperandKind::Literal ||
        operands[1].part != Part::Whole)
      return;
    const FormIndex form = operands[1].value == 1 ? s.more : operands[1].value == -1 ? s.less : 0;
    if (!form) return;
    i.form = form;
    i.operand_count = 1;
  }
  void sum(CodeLine& i, const ShorterForms& s) {
    auto operands = f_.of(i);
    if (operands[0].kind != OperandKind::Register || operands[1].kind != OperandKind::Address) return;
    const CodeAddress& a = f_.addresses[static_cast<size_t>(operands[1].value)];
    const Register into = operands[0].reg;
    if (a.anchor != Anchor::None || (a.base != into && a.index != into)) return;
    if (a.index == no_register) {
      if (!fits_signed(a.displacement, 32)) return;
      operands[1] = {OperandKind::Literal, true, false, Part::Whole, no_register, a.displacement};
      i.form = s.sum_literal;
    } else {
      if (a.scale != 1 || a.displacement != 0 || a.base == no_register) return;
      operands[1] = {OperandKind::Register, true, false, Part::Whole, a.base == into ? a.index : a.base, 0};
      i.form = s.sum;
    }
    operands[0].read = true;
  }

  Code& f_;
  const Target& target_;
  std::vector<uint8_t> gone_;    // by line, once there are such
  std::vector<uint8_t> wanted_;  // by block: whether it reads flags from before
};

}  // namespace

void take_shorter_forms(Code& f, const Target& target) { Shortener(f, target).run(); }

}  // namespace porphyry::machine
