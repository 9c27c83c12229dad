// Idea: each line of the allocated code is written again with pairs instead of registers. Which value an
// operand stands for, the operand's virtual register says; of lines that splitting put in, the lines around.
// Invariant: no pair is read where it may not lie. Names that the code contradicts are taken back: of such a
// pair only the reads remain that follow a write in the same block.
// Cost: near-linear in the code and in the live ranges of the pairs.
#include "pair_code.h"

#include <algorithm>
#include <map>

#include "porphyry/base/scratch.h"
#include "porphyry/machine/live_ranges.h"

namespace porphyry::machine {
namespace {

// The allocated code in pairs.
class PairCode {
 public:
  PairCode(const Function& ir, const Allocation& how, const Target& target)
      : ir_(ir), how_(how), target_(target), of_remade_(how.remade.begin(), how.remade.end()) {
    out_.blocks = how.code.blocks;
    out_.tables = how.code.tables;
    out_.calls = how.code.calls;
  }

  PairedCode run() {
    for (CodeBlock& b : out_.blocks) {
      uint32_t first = b.first, end = b.first + b.count;
      b.first = static_cast<uint32_t>(out_.code.size());
      std::fill(std::begin(passed_), std::end(passed_), no_register);
      std::fill(std::begin(held_), std::end(held_), no_register);
      for (uint32_t k = first; k < end; ++k) line(k, end);
    }
    return {std::move(out_), std::move(pairs_), std::move(overwrites_)};
  }

 private:
  // The register that stands for a virtual one's value at a place; none for helpers and constants.
  Register pair(Register was, uint32_t place) { return pair_of(value_of(was), place); }
  Value value_of(Register was) const {
    if (!is_virtual(was) || was - first_virtual >= how_.code.virtuals.size()) return {};
    Value v = how_.code.shape(was).origin;
    return v.exists() && !ir_.is_constant(v) ? v : Value();
  }
  Register pair_of(Value v, uint32_t place) {
    if (!v.exists()) return no_register;
    auto [at, is_new] = known_.try_emplace({v.index, place}, static_cast<uint32_t>(pairs_.size()));
    if (is_new) {
      pairs_.push_back({v, place});
      out_.virtuals.push_back({});
    }
    return first_virtual + at->second;
  }
  void name(Register r, bool read, bool written) {
    if (r == no_register) return;
    if (uint32_t place = pairs_[r - first_virtual].place; place < first_virtual) held_[place] = r;
    out_.operands.push_back({OperandKind::Register, read, written, Part::Whole, r, 0});
    ++out_.code.back().operand_count;
  }

  // Whether a copy only brings an operand to where an instruction overwrites it with the value that is named.
  bool is_preparation(uint32_t k, uint32_t end) const {
    const Code& f = how_.code;
    if (f.code[k].form != copy_form) return false;
    Register into = f.of(f.code[k])[0].reg;
    for (uint32_t j = k + 1; j < end && j < k + 4; ++j)
      for (const CodeOperand& o : f.of(f.code[j]))
        if (o.kind == OperandKind::Register && o.reg == into) return o.read && o.written;
    return false;
  }

  // Pieces of coalesced values know only one of these. What a register holds that goes into the slot is known
  // from the line that put it there, and that the slot has it under another name from the copy that this was.
  // A copy, not a spill, is one that nothing reloads.
  void spill(Register from, const CodeLine& i, Register was, Register slot_was) {
    Register held = held_[from] != no_register && was == slot_was ? held_[from] : pair(was, from);
    if (held == no_register) return;
    name(held, true, false);
    Register here = was == slot_was ? held : pair(slot_was, from);
    if (here == no_register) return;
    if (here != held) name(here, false, true);
    if (i.form != spill_form) return;
    Value v = pairs_[here - first_virtual].value;
    uint32_t place = slot_place(i);
    auto [at, is_new] = in_slot_.try_emplace(place, v);
    if (!is_new && at->second != v) at->second = Value();
    name(pair_of(v, place), false, true);
  }

  // The value that the line wants that the reload is for; when that is overwritten, the slot's only one.
  void reload(uint32_t k, uint32_t end, Register was, Register slot_was) {
    const Code& f = how_.code;
    const CodeLine& i = f.code[k];
    Register into = f.of(i)[0].reg;
    bool from_slot = i.form == reload_form;
    Register source = from_slot ? no_register : held_[f.of(i)[1].reg];
    Value v = source != no_register ? pairs_[source - first_virtual].value : value_of(slot_was);
    if (from_slot) {
      Value only = in_slot_.count(slot_place(i)) ? in_slot_[slot_place(i)] : Value();
      if (was == slot_was) v = only.exists() ? only : next_read(k, end, into);
    }
    if (!v.exists()) return;
    name(from_slot ? pair_of(v, slot_place(i)) : source, true, false);
    Value arrives = was == slot_was ? v : value_of(was);
    if (arrives.exists() && !is_preparation(k, end)) name(pair_of(arrives, into), false, true);
  }
  Value next_read(uint32_t k, uint32_t end, Register r) const {
    const Code& f = how_.code;
    for (uint32_t j = k + 1; j < std::min(end, k + 8); ++j)  // a reload stands before its use
      for (uint32_t q = 0; q < f.code[j].operand_count; ++q) {
        const CodeOperand& o = f.of(f.code[j])[q];
        if (o.kind == OperandKind::Register && o.reg == r)
          return o.read && !o.written ? value_of(how_.virtual_of[f.code[j].first_operand + q]) : Value();
      }
    return {};
  }
  uint32_t slot_place(const CodeLine& i) const {
    return first_virtual + static_cast<uint32_t>(how_.code.of(i)[1].value);
  }

  void note_overwrites(uint32_t row) {
    const CodeLine& i = how_.code.code[row];
    auto note = [&](uint32_t place) {
      overwrites_.push_back({place, row});
      if (place < first_virtual) held_[place] = no_register;
    };
    auto operands = how_.code.of(i);
    if (i.form == copy_form && operands[0].reg == operands[1].reg) return;
    if (i.form == spill_form) note(slot_place(i));
    for (const CodeOperand& o : operands)
      if (o.kind == OperandKind::Register && o.written && is_physical(o.reg)) note(o.reg);
    for (unsigned r : implicit_writes(target_, how_.code, i)) note(r);
  }

  void line(uint32_t k_of_line, uint32_t end) {
    const Code& f = how_.code;
    const CodeLine& i = f.code[k_of_line];
    bool prepares = is_preparation(k_of_line, end);
    out_.code.push_back(
        {.form = i.form, .first_operand = static_cast<uint32_t>(out_.operands.size()), .call = i.call});
    auto operands = f.of(i);
    note_overwrites(k_of_line);
    auto was = [&](size_t k) {
      uint32_t row = i.first_operand + static_cast<uint32_t>(k);
      if (auto at = of_remade_.find(row); at != of_remade_.end()) return at->second;
      return row < how_.virtual_of.size() ? how_.virtual_of[row] : no_register;
    };
    if (i.role == Role::Spill && i.operand_count == 2) return spill(operands[0].reg, i, was(0), was(1));
    if (i.role == Role::Reload && i.form < first_real_form) return reload(k_of_line, end, was(0), was(1));
    for (unsigned r : implicit_reads(target_, f, i)) name(passed_[r], true, false);
    for (unsigned r : implicit_writes(target_, f, i)) passed_[r] = no_register;
    for (size_t k = 0; k < operands.size(); ++k) {
      const CodeOperand& o = operands[k];
      if (o.kind == OperandKind::Memory || o.kind == OperandKind::Address) {
        auto at = static_cast<size_t>(o.value);
        const CodeAddress& a = f.addresses[at];
        if (at >= how_.of_address.size()) continue;
        if (is_physical(a.base)) name(pair(how_.of_address[at].first, a.base), true, false);
        if (is_physical(a.index)) name(pair(how_.of_address[at].second, a.index), true, false);
      } else if (o.kind == OperandKind::Register && is_physical(o.reg)) {
        bool fixed = !is_virtual(was(k));  // a register that the instruction itself asks for
        if (fixed && o.read) name(passed_[o.reg], true, false);
        if (fixed && o.written) passed_[o.reg] = i.form == copy_form ? pair(was(1), o.reg) : no_register;
        if (fixed)
          name(o.written ? passed_[o.reg] : no_register, o.read, o.written);
        else if (!(prepares && o.written))
          name(pair(was(k), o.reg), o.read && !o.written,
               o.written);  // what is overwritten was not this value yet
      }
    }
  }

  const Function& ir_;
  const Allocation& how_;
  const Target& target_;
  Register
      passed_[first_virtual];  // by physical register: the pair copied there for an instruction that wants it
  Register held_[first_virtual];       // by physical register: the pair last named of it in the block
  std::map<uint32_t, Value> in_slot_;  // by place: the one value that is saved there; none when several are
  std::map<uint32_t, Register> of_remade_;
  std::map<std::pair<uint32_t, uint32_t>, uint32_t> known_;  // by value and place: the row of pairs_
  std::vector<Pair> pairs_;
  std::vector<Overwrite> overwrites_;
  Code out_;
};

// Names that the code contradicts: pairs that would live at the start of the function, where nothing has put
// them yet, and pairs that would live on although their place is overwritten. Coalesced values share a piece,
// and a line that was inserted for one cannot always tell for which.
std::vector<uint8_t> contradicted(const Code& code, const std::vector<Pair>& pairs, const LiveRanges& ranges,
                                  const std::vector<Overwrite>& overwrites) {
  std::vector<uint8_t> out(pairs.size(), 0);
  std::map<uint32_t, std::vector<uint32_t>> rows;  // of overwrites, by place
  for (const auto& o : overwrites) rows[o.place].push_back(o.row);
  auto writes = [&](uint32_t row, Register r) {
    for (const CodeOperand& o : code.of(code.code[row]))
      if (o.reg == r && o.written) return true;
    return false;
  };
  for (uint32_t k = 0; k < pairs.size(); ++k) {
    const std::vector<uint32_t>& over = rows[pairs[k].place];
    for (const Segment& s : ranges.virtuals[k]) {
      if (s.from == 0) out[k] = 1;
      auto at = std::lower_bound(over.begin(), over.end(), s.from / 2);
      for (; at != over.end() && 2 * *at + 1 < s.to && !out[k]; ++at)
        out[k] = 2 * *at + 1 >= s.from && !writes(*at, first_virtual + k);
    }
  }
  return out;
}

// Leaves of those the reads that follow a write in the same block, with nothing in between.
void keep_within_blocks(Code& code, const std::vector<Pair>& pairs, const std::vector<uint8_t>& bad,
                        const std::vector<Overwrite>& overwrites) {
  struct Sight {
    uint32_t block = none, generation = 0;
  };
  std::vector<Sight> written(pairs.size());
  std::map<uint32_t, uint32_t> generation;  // by place: overwrites so far
  auto over = overwrites.begin();
  for (uint32_t b = 0; b < code.blocks.size(); ++b)
    for (uint32_t row = code.blocks[b].first; row < code.blocks[b].first + code.blocks[b].count; ++row) {
      for (CodeOperand& o : code.of(code.code[row])) {
        uint32_t k = o.reg - first_virtual;
        const Sight& last = written[k];
        if (o.read && bad[k]) o.read = last.block == b && last.generation == generation[pairs[k].place];
      }
      for (; over != overwrites.end() && over->row == row; ++over) ++generation[over->place];
      for (const CodeOperand& o : code.of(code.code[row]))
        if (uint32_t k = o.reg - first_virtual; o.written) written[k] = {b, generation[pairs[k].place]};
    }
}

}  // namespace

PairedCode in_pairs(const Function& ir, const Allocation& how, const Target& target) {
  PairedCode out = PairCode(ir, how, target).run();
  Scratch work;
  auto bad = contradicted(out.code, out.pairs, live_ranges(out.code, target, &work), out.overwrites);
  keep_within_blocks(out.code, out.pairs, bad, out.overwrites);
  return out;
}

}  // namespace porphyry::machine
