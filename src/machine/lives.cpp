// Where each value lay from instruction to instruction.
//
// A pair of a value and a place (a register or a slot) takes the part of a virtual register: the allocated
// code is written again in such pairs, and their live ranges are what `live_ranges` says of that code. So a
// stay lasts from the instruction that puts the value there to the last one that takes it from there, on
// every way. Near-linear in the code and the stays.
#include "lives.h"

#include <fmt/format.h>

#include <algorithm>
#include <map>

#include "porphyry/base/scratch.h"
#include "porphyry/text/writer.h"
#include "ranges.h"

namespace porphyry::machine {
namespace {

constexpr uint32_t none = 0xffffffff;

struct Pair {
  Value value;
  uint32_t place;  // a physical register, or behind those a slot
};

// The allocated code in pairs.
class PairCode {
 public:
  PairCode(const Function& ir, const Allocation& how, const Target& target)
      : ir_(ir), how_(how), target_(target), of_remade_(how.remade.begin(), how.remade.end()) {
    out_.blocks = how.code.blocks;
    out_.calls = how.code.calls;
  }

  Code run() {
    const Code& f = how_.code;
    for (CodeBlock& b : out_.blocks) {
      uint32_t first = b.first, end = b.first + b.count;
      b.first = static_cast<uint32_t>(out_.code.size());
      std::fill(std::begin(passed_), std::end(passed_), no_register);
      for (uint32_t k = first; k < end; ++k) line(f.code[k]);
    }
    return std::move(out_);
  }
  const std::vector<Pair>& pairs() const { return pairs_; }

 private:
  // The register that stands for a virtual one's value at a place; none for helpers and constants.
  Register pair(Register was, uint32_t place) {
    if (!is_virtual(was) || was - first_virtual >= how_.code.virtuals.size()) return no_register;
    Value v = how_.code.shape(was).origin;
    if (!v.exists() || ir_.is_constant(v)) return no_register;
    auto [at, is_new] = known_.try_emplace({v.index, place}, static_cast<uint32_t>(pairs_.size()));
    if (is_new) {
      pairs_.push_back({v, place});
      out_.virtuals.push_back({});
    }
    return first_virtual + at->second;
  }
  void name(Register r, bool read, bool written) {
    if (r == no_register) return;
    out_.operands.push_back({OperandKind::Register, read, written, r, 0});
    ++out_.code.back().operand_count;
  }

  void line(const CodeLine& i) {
    const Code& f = how_.code;
    out_.code.push_back(
        {.form = i.form, .first_operand = static_cast<uint32_t>(out_.operands.size()), .call = i.call});
    bool gone = i.role == Role::Save && i.form == copy_form;  // a spill that nobody reloads
    if (gone) return;
    auto operands = f.of(i);
    auto was = [&](size_t k) {
      uint32_t row = i.first_operand + static_cast<uint32_t>(k);
      if (auto at = of_remade_.find(row); at != of_remade_.end()) return at->second;
      return row < how_.virtual_of.size() ? how_.virtual_of[row] : no_register;
    };
    for (RegisterMask m = implicit_reads(target_, f, i); m; m &= m - 1)
      name(passed_[__builtin_ctzll(m)], true, false);
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
        name(fixed ? o.written ? passed_[o.reg] : no_register : pair(was(k), o.reg), o.read, o.written);
      } else if (i.form == save_form || i.form == fetch_form) {
        name(pair(was(k), first_virtual + static_cast<uint32_t>(o.value)), i.form == fetch_form,
             i.form == save_form);
      }
    }
  }

  const Function& ir_;
  const Allocation& how_;
  const Target& target_;
  Register
      passed_[first_virtual];  // by physical register: the pair copied there for an instruction that wants it
  std::map<uint32_t, Register> of_remade_;
  std::map<std::pair<uint32_t, uint32_t>, uint32_t> known_;  // by value and place: the row of pairs_
  std::vector<Pair> pairs_;
  Code out_;
};

class LifeGatherer {
 public:
  LifeGatherer(const LoweredModule& lowered, const CompiledFunction& c, const Target& target)
      : module_(*lowered.legal), f_(module_.function(c.symbol)), how_(*c.explained), target_(target) {
    for (const EmittedLine& l : c.lines)
      if (l.row != EmittedLine::no_row) emitted_.push_back({l.row, l.offset});
  }

  std::vector<FunctionListing::Life> run() {
    PairCode writer(f_, how_, target_);
    const Code code = writer.run();
    Scratch work;
    LiveRanges ranges = live_ranges(code, target_, &work);
    for (size_t k = 0; k < writer.pairs().size(); ++k)
      for (const Segment& s : ranges.virtuals[k]) stay(writer.pairs()[k], s);
    std::vector<FunctionListing::Life> out;
    row_of_.resize(f_.value_limit(), none);
    std::sort(stays_.begin(), stays_.end());
    for (const Stay& s : stays_) add(out, s);
    for (const Eviction& e : how_.evictions) reason(out, e);
    return out;
  }

 private:
  struct Emitted {
    uint32_t row, offset;
  };
  struct Stay {
    uint32_t from, to, place;
    Value value;
    bool operator<(const Stay& o) const {
      return from != o.from ? from < o.from : to != o.to ? to < o.to : place < o.place;
    }
  };

  // A segment of positions as the offsets of the instructions that came of it. A copy within one register is
  // no instruction: what it reads and writes is told of the next one, for which it was made.
  void stay(const Pair& p, const Segment& s) {
    uint32_t first = s.from / 2, last = (s.to - 1) / 2;
    auto at_or_behind = [&](uint32_t row) {
      return std::lower_bound(emitted_.begin(), emitted_.end(), row,
                              [](const Emitted& e, uint32_t r) { return e.row < r; });
    };
    auto from = at_or_behind(first), to = at_or_behind(last);
    const auto& blocks = how_.code.blocks;
    auto block = std::upper_bound(blocks.begin(), blocks.end(), last,
                                  [](uint32_t row, const CodeBlock& b) { return row < b.first; }) -
                 1;
    if (to == emitted_.end() || to->row >= block->first + block->count) {
      if (to == emitted_.begin()) return;
      --to;
    }
    if (from <= to && from != emitted_.end()) stays_.push_back({from->offset, to->offset, p.place, p.value});
  }

  FunctionListing::Life& life(std::vector<FunctionListing::Life>& out, Value v) {
    uint32_t& row = row_of_[v.index];
    if (row == none) {
      row = static_cast<uint32_t>(out.size());
      out.push_back({value_text(module_, f_, v), {}, {}});
    }
    return out[row];
  }
  // One that begins before the last in the same place has ended goes on with it.
  void add(std::vector<FunctionListing::Life>& out, const Stay& s) {
    auto& stays = life(out, s.value).stays;
    std::string where = place_text(s.place);
    if (!stays.empty() && stays.back().where == where && s.from <= stays.back().to)
      stays.back().to = std::max(stays.back().to, s.to);
    else
      stays.push_back({where, s.from, s.to});
  }
  std::string place_text(uint32_t place) const {
    if (place < first_virtual)
      return std::string(target_.register_name(place, target_.classes[target_.class_of(place)].bits));
    PlainAddress a{.base = static_cast<int8_t>(target_.convention.stack),
                   .displacement = static_cast<int32_t>(how_.code.slots[place - first_virtual].offset)};
    return target_.spell_address(target_, a, 0, "");
  }

  void reason(std::vector<FunctionListing::Life>& out, const Eviction& e) {
    if (f_.is_constant(e.value)) return;
    std::string where =
        e.at.exists() && f_.alive(e.at) ? "at '" + write_text(module_, f_, e.at) + "'" : "at the end";
    std::string by = e.by.exists() ? value_text(module_, f_, e.by) : "another value";
    std::string why;
    switch (e.why) {
      case Eviction::Why::Crowded: why = "all registers hold values whose use costs more"; break;
      case Eviction::Why::Outbid: why = fmt::format("{} costs more and its register was wanted", by); break;
      case Eviction::Why::NoneLasts:
        why = "no register lasts: calls or fixed registers take each of them somewhere in its range";
        break;
    }
    std::string text = fmt::format("{} {} (its uses cost {:.2f} a position)", where, why, e.cost);
    auto& reasons = life(out, e.value).reasons;
    if (std::find(reasons.begin(), reasons.end(), text) == reasons.end()) reasons.push_back(std::move(text));
  }

  const Module& module_;
  const Function& f_;
  const Allocation& how_;
  const Target& target_;
  std::vector<Emitted> emitted_;  // lines of the code, in order
  std::vector<Stay> stays_;
  std::vector<uint32_t> row_of_;  // by value: of the lives
};

}  // namespace

std::vector<FunctionListing::Life> lives_of(const LoweredModule& lowered, const CompiledFunction& f,
                                            const Target& target) {
  if (!f.explained) return {};
  return LifeGatherer(lowered, f, target).run();
}

}  // namespace porphyry::machine
