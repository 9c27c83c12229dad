// Idea: what such an instruction gets is told by a key: its form, the values that its operands hold, and how
// the registers that it reads without naming them were filled right in front of it. Two of one key in a block
// leave the same results. The copies of the second one's results are made behind the first one; it goes, and
// with it the lines that filled its registers, and numbers that nothing else reads.
// Invariant: values are told apart by their virtual registers, and by the numbers that those hold; a register
// written in between makes no key equal to one before, as it is part of the key when it was written.
#include "reuse_results.h"

#include <algorithm>
#include <map>
#include <optional>
#include <unordered_map>

namespace porphyry::machine {
namespace {

class ResultReuse {
 public:
  ResultReuse(Code& f, const Target& target) : f_(f), target_(target) {}

  void run() {
    if (std::ranges::count_if(f_.code, [&](const CodeLine& i) { return leaves_two(i); }) < 2) return;
    for (const CodeBlock& b : f_.blocks) plan(b);
    if (goes_.empty()) return;
    std::ranges::stable_sort(behind_, {}, &LineCopy::before);
    write_again(f_, behind_, gone());
  }

 private:
  bool real(const CodeLine& i) const { return i.form >= first_real_form; }
  bool leaves_two(const CodeLine& i) const {
    if (!real(i)) return false;
    const Form& form = target_.form(i.form);
    return !form.writes.empty() && i.call == none && !form.is_jump && form.writes.count() > 1 &&
           holds(form.writes, form.reads);
  }
  static bool holds(const RegisterSet& all, RegisterSet some) { return (some -= all).empty(); }

  // An instruction with what stands around it for its sake.
  struct Run {
    std::vector<int64_t> key;
    uint32_t first = 0, at = 0, end = 0;  // lines: what fills registers, itself, and the copies of results
  };

  // What a register holds, as part of a key: a number, or when it was last written.
  void add_value(Register r, std::vector<int64_t>& key) const {
    if (auto n = numbers_.find(r); n != numbers_.end()) {
      const CodeLine& i = f_.code[n->second];
      const int64_t value = f_.of(i)[1].value;
      // A number that fits either half of a word is the same in both.
      const bool plain = value >= 0 && value >> 31 == 0 &&
                         2u * target_.form(i.form).operands[0].type.bits() >= target_.word_bits;
      key.insert(key.end(), {1, plain ? f_.shape(r).register_class : -int64_t(i.form), value});
    } else {
      auto w = written_.find(r);
      key.insert(key.end(), {2, r, w == written_.end() ? -1 : int64_t(w->second)});
    }
  }
  bool is_number(const CodeLine& i) const {
    if (!real(i) || i.operand_count != 2) return false;
    const Form& form = target_.form(i.form);
    if (!form.reads.empty() || !form.writes.empty()) return false;
    const auto o = f_.of(i);
    return o[0].kind == OperandKind::Register && o[0].written && !o[0].read &&
           o[1].kind == OperandKind::Literal && o[1].part == Part::Whole;
  }
  // Fills a register for the instruction behind it: with a value, a number, or from another one that was
  // filled.
  bool fills(const CodeLine& i, const RegisterSet& read) const {
    if (i.call != none) return false;
    if (real(i) && i.operand_count == 0) {
      const Form& form = target_.form(i.form);
      return form.writes.count() == 1 && holds(read, form.writes) && holds(read, form.reads);
    }
    const bool copies = i.form == copy_form, is = copies || is_number(i);
    const auto o = f_.of(i);
    return is && is_physical(o[0].reg) && read.has(o[0].reg) && (!copies || is_virtual(o[1].reg));
  }
  std::optional<Run> run_at(uint32_t k, const CodeBlock& b) const {
    const CodeLine& line = f_.code[k];
    const Form& form = target_.form(line.form);
    Run out{{line.form}, k, k, k + 1};
    for (const CodeOperand& o : f_.of(line)) {
      if (o.kind != OperandKind::Register || o.written || !is_virtual(o.reg)) return std::nullopt;
      add_value(o.reg, out.key);
    }
    RegisterSet filled;
    while (out.first > b.first && fills(f_.code[out.first - 1], form.reads)) --out.first;
    for (uint32_t j = out.first; j < k; ++j) {
      const CodeLine& i = f_.code[j];
      out.key.push_back(i.form);
      for (const CodeOperand& o : f_.of(i)) {
        if (o.kind == OperandKind::Literal) out.key.push_back(o.value);
        if (o.kind == OperandKind::Register && is_virtual(o.reg)) add_value(o.reg, out.key);
        if (o.kind == OperandKind::Register && is_physical(o.reg))
          out.key.push_back(o.reg), filled.add(o.reg);
      }
      if (real(i)) filled |= target_.form(i.form).writes;
    }
    if (!holds(filled, form.reads)) return std::nullopt;
    const uint32_t end = b.first + b.count;
    while (out.end < end && takes_result(f_.code[out.end], form.writes)) ++out.end;
    // Nothing else of the same rule takes a result.
    if (out.end < end && f_.code[out.end].origin == line.origin) return std::nullopt;
    return out;
  }
  bool takes_result(const CodeLine& i, const RegisterSet& results) const {
    const auto o = f_.of(i);
    return i.form == copy_form && i.operand_count == 2 && is_virtual(o[0].reg) && is_physical(o[1].reg) &&
           results.has(o[1].reg);
  }

  void plan(const CodeBlock& b) {
    std::map<std::vector<int64_t>, uint32_t> before;  // by key: where the first one stands
    numbers_.clear(), written_.clear();
    for (uint32_t k = b.first; k < b.first + b.count; ++k) {
      if (leaves_two(f_.code[k])) {
        if (const auto run = run_at(k, b)) {
          const auto [first, fresh] = before.emplace(run->key, k);
          if (!fresh && all_new(*run)) move(*run, first->second);
        }
      }
      note_written(k);
    }
  }
  void note_written(uint32_t k) {
    each_register(f_, f_.code[k], [&](Register r, bool, bool written) {
      if (written && is_virtual(r)) written_[r] = k, numbers_.erase(r);
    });
    if (is_number(f_.code[k]) && is_virtual(f_.of(f_.code[k])[0].reg)) numbers_[f_.of(f_.code[k])[0].reg] = k;
  }
  // Whether nothing wrote the registers of its results before: so nothing reads them in between, either.
  bool all_new(const Run& run) const {
    if (run.end == run.at + 1) return false;
    for (uint32_t k = run.at + 1; k < run.end; ++k) {
      const Register r = f_.of(f_.code[k])[0].reg;
      if (written_.contains(r) || !f_.shape(r).origin.exists()) return false;
    }
    return true;
  }
  void move(const Run& run, uint32_t first) {
    for (uint32_t k = run.first; k < run.end; ++k) goes_.push_back(k);
    for (uint32_t k = run.at + 1; k < run.end; ++k) behind_.push_back({first + 1, k});
  }

  // By line: with numbers that only what goes had read.
  std::vector<uint8_t> gone() const {
    std::vector<uint8_t> out(f_.code.size()), wanted(f_.virtuals.size());
    std::vector<uint32_t> reads(f_.virtuals.size());
    auto each_read = [&](const CodeLine& i, auto see) {
      each_register(f_, i, [&](Register r, bool read, bool) {
        if (read && is_virtual(r)) see(r - first_virtual);
      });
    };
    for (uint32_t k : goes_) {
      out[k] = 1;
      each_read(f_.code[k], [&](uint32_t v) { wanted[v] = 1; });
    }
    for (uint32_t k = 0; k < f_.code.size(); ++k)
      if (!out[k]) each_read(f_.code[k], [&](uint32_t v) { ++reads[v]; });
    for (uint32_t k = 0; k < f_.code.size(); ++k) {
      if (!is_number(f_.code[k])) continue;
      const Register r = f_.of(f_.code[k])[0].reg;
      out[k] |= is_virtual(r) && wanted[r - first_virtual] && reads[r - first_virtual] == 0;
    }
    return out;
  }

  Code& f_;
  const Target& target_;
  std::unordered_map<Register, uint32_t> numbers_, written_;  // of the block so far: the lines
  std::vector<uint32_t> goes_;                                // lines
  std::vector<LineCopy> behind_;                              // results that are taken behind first ones
};

}  // namespace

void reuse_results(Code& code, const Target& target) { ResultReuse(code, target).run(); }

}  // namespace porphyry::machine
