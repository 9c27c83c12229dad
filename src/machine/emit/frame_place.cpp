// Idea: blocks that name a kept register, the stack pointer or a slot, or call, need the frame; so do all
// that follow one, as the frame stays until the function is left. What is not among them runs without. One
// place sets the frame up: in front of a block where all ways into these blocks lead to it, or behind the one
// block that leads to them. Where there are several ways, the blocks they come from are taken in, a few
// times.
//
// Invariant: the set is closed under successors, so the place is passed at most once, and no block is reached
// both with the frame and without. It is worth it only where a way out of the function is left outside.
//
// (F. Chow, "Minimizing Register Usage Penalty at Procedure Calls", 1988: shrink-wrapping, here of the frame
// as a whole.)
#include "frame_place.h"

#include <algorithm>
#include <optional>
#include <utility>

namespace porphyry::machine {
namespace {

constexpr uint64_t most_late_bytes = 2048;  // larger ones are touched by a loop, which wants a register

class FramePlacer {
 public:
  FramePlacer(const Code& f, const Target& target) : f_(f), target_(target), inside_(f.blocks.size()) {
    own_ = f.frame.saved;
    own_.add(target.convention.stack);
  }

  FramePlace place() {
    if (needs_frame(f_.blocks[0])) return {};
    into_.resize(f_.blocks.size());
    for (uint32_t b = 0; b < f_.blocks.size(); ++b)
      for (uint32_t to : f_.successors(f_.blocks[b])) into_[to].push_back(b);
    for (uint32_t b = 0; b < f_.blocks.size(); ++b)
      if (needs_frame(f_.blocks[b])) take_in(b);
    for (unsigned round = 0; round < most_rounds && !inside_[0]; ++round)
      if (auto found = one_way_in())
        return leaves_outside() && !wants_flags(entered_) ? *found : FramePlace();
    return {};
  }

 private:
  static constexpr unsigned most_rounds = 8;

  bool needs_frame(const CodeBlock& b) const {
    for (uint32_t k = b.first; k < b.first + b.count; ++k) {
      const CodeLine& i = f_.code[k];
      if (i.form == target_.upkeep.return_values) continue;
      if (i.form == spill_form || i.form == reload_form) return true;
      if (i.call != none && !f_.calls[i.call].leaves) return true;
      bool named = !((implicit_reads(target_, f_, i) | implicit_writes(target_, f_, i)) & own_).empty();
      each_register(f_, i, [&](Register r, bool, bool) { named |= is_physical(r) && own_.has(r); });
      if (named) return true;
    }
    return false;
  }
  void take_in(uint32_t block) {
    std::vector<uint32_t> work{block};
    while (!work.empty()) {
      const uint32_t b = work.back();
      work.pop_back();
      if (std::exchange(inside_[b], uint8_t(1))) continue;
      for (uint32_t to : f_.successors(f_.blocks[b])) work.push_back(to);
    }
  }

  // The place, or nothing once the blocks before have been taken in.
  std::optional<FramePlace> one_way_in() {
    std::vector<std::pair<uint32_t, uint32_t>> ways;  // from outside
    for (uint32_t b = 0; b < f_.blocks.size(); ++b)
      if (inside_[b])
        for (uint32_t from : into_[b])
          if (!inside_[from]) ways.emplace_back(from, b);
    if (ways.empty()) return std::nullopt;
    entered_ = ways[0].second;
    const bool one_block =
        std::all_of(ways.begin(), ways.end(), [&](auto w) { return w.second == entered_; });
    const bool from_inside = std::any_of(into_[entered_].begin(), into_[entered_].end(),
                                         [&](uint32_t b) { return inside_[b] != 0; });
    if (one_block && !from_inside) return FramePlace{.before = entered_, .behind = none, .stands = inside_};
    const uint32_t from = ways[0].first;
    if (ways.size() == 1 && f_.successors(f_.blocks[from]).size() == 1 && f_.blocks[from].table == none) {
      FramePlace out{.before = none, .behind = from, .stands = inside_};
      out.stands[from] = 1;
      return out;
    }
    for (auto [block, _] : ways) take_in(block);
    return std::nullopt;
  }
  bool leaves_outside() const {
    for (uint32_t b = 0; b < f_.blocks.size(); ++b)
      if (!inside_[b] && f_.successors(f_.blocks[b]).size() == 0) return true;
    return false;
  }
  // Setting up a frame changes flags.
  bool wants_flags(uint32_t block) const {
    const CodeBlock& b = f_.blocks[block];
    for (uint32_t k = b.first; k < b.first + b.count; ++k) {
      if (reads_flags(target_, f_.code[k])) return true;
      if (writes_flags(target_, f_, f_.code[k])) return false;
    }
    return std::any_of(f_.successors(b).begin(), f_.successors(b).end(),
                       [&](uint32_t to) { return to != block; });
  }

  const Code& f_;
  const Target& target_;
  RegisterSet own_;  // which a frame is about
  std::vector<uint8_t> inside_;
  std::vector<std::vector<uint32_t>> into_;
  uint32_t entered_ = 0;
};

}  // namespace

FramePlace place_frame(const Code& f, const Target& target, bool late) {
  const bool is_none = f.frame.bytes == 0 && f.frame.saved.empty();
  if (!late || is_none || f.frame.bytes > most_late_bytes || f.blocks.size() < 3) return {};
  return FramePlacer(f, target).place();
}

}  // namespace porphyry::machine
