// Where each value lay from instruction to instruction.
//
// A pair of a value and a place (a register or a slot) takes the part of a virtual register: the allocated
// code is written again in such pairs (`pair_code.h`), and their live ranges are what `live_ranges` says of
// that code. So a stay lasts from the instruction that puts the value there to the last one that takes it
// from there, on every way. Near-linear in the code and the stays.
#include "lives.h"

#include <fmt/format.h>

#include <algorithm>

#include "pair_code.h"
#include "porphyry/base/scratch.h"
#include "porphyry/machine/live_ranges.h"
#include "porphyry/print/print.h"

namespace porphyry::machine {
namespace {

class LifeGatherer {
 public:
  LifeGatherer(const LoweredModule& lowered, const CompiledFunction& c, const Target& target)
      : module_(*lowered.legal), f_(module_.function(c.symbol)), how_(*c.explained), target_(target) {
    for (const EmittedLine& l : c.lines)
      if (l.row != EmittedLine::no_row) emitted_.push_back({l.row, l.offset});
  }

  std::vector<FunctionListing::Life> run() {
    const PairedCode paired = in_pairs(f_, how_, target_);
    Scratch work;
    LiveRanges ranges = live_ranges(paired.code, target_, &work);
    for (size_t k = 0; k < paired.pairs.size(); ++k)
      for (const Segment& s : ranges.virtuals[k]) stay(paired.pairs[k], s);
    std::vector<FunctionListing::Life> out;
    row_of_.resize(f_.value_limit(), none);
    std::sort(stays_.begin(), stays_.end());
    for (const Stay& s : stays_) add(out, s);
    for (const SplitReason& e : how_.split_reasons) reason(out, e);
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

  void reason(std::vector<FunctionListing::Life>& out, const SplitReason& e) {
    if (f_.is_constant(e.value)) return;
    std::string where =
        e.at.exists() && f_.alive(e.at) ? "at '" + write_text(module_, f_, e.at) + "'" : "at the end";
    std::string by = e.by.exists() ? value_text(module_, f_, e.by) : "another value";
    std::string why;
    switch (e.why) {
      case SplitReason::Why::Crowded: why = "all registers hold values whose use costs more"; break;
      case SplitReason::Why::Outbid:
        why = fmt::format("{} costs more and its register was wanted", by);
        break;
      case SplitReason::Why::NoneLasts:
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
