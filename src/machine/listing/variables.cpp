// Idea: which value a variable has at the start of each block follows from the blocks before, as constants do
// in a data-flow analysis; where that value lies, pairs of values and places say (`pair_code.h`).
// Instructions may stand in another order than those they came from: a variable is gone where some of what
// stands before its `watch` is still to come and some of what stands behind it is done. Invariant: a stay is
// never longer than the value is there: it ends where the place is overwritten at last, and for a call before
// the call is done, since debuggers look a caller up at the byte before its return address. Cost: near-linear
// in the code and the stays, and blocks times variables.
#include "variables.h"

#include <algorithm>
#include <map>
#include <tuple>

#include "pair_code.h"
#include "porphyry/base/scratch.h"
#include "porphyry/machine/live_ranges.h"
#include "porphyry/machine/passing.h"
#include "porphyry/machine/rule_keys.h"

namespace porphyry::machine {
namespace {

using Stay = VariableFact::Stay;
using Where = VariableFact::Where;

// From rows of the allocated code to offsets of what was emitted.
class Offsets {
 public:
  Offsets(const Code& code, const CompiledFunction& emitted) : code_(code), emitted_(emitted) {
    for (uint32_t k = 0; k < emitted.lines.size(); ++k)
      if (emitted.lines[k].row != EmittedLine::no_row) lines_.push_back(k);
  }
  // Where the first instruction of this row, or of one behind it, begins.
  uint32_t of(uint32_t row) const {
    auto at = std::lower_bound(lines_.begin(), lines_.end(), row,
                               [&](uint32_t line, uint32_t r) { return emitted_.lines[line].row < r; });
    return at == lines_.end() ? static_cast<uint32_t>(emitted_.bytes.size()) : emitted_.lines[*at].offset;
  }
  uint32_t block_of(uint32_t row) const {
    auto behind = std::upper_bound(code_.blocks.begin(), code_.blocks.end(), row,
                                   [](uint32_t r, const CodeBlock& b) { return r < b.first; });
    return static_cast<uint32_t>(behind - code_.blocks.begin() - 1);
  }

 private:
  const Code& code_;
  const CompiledFunction& emitted_;
  std::vector<uint32_t> lines_;  // with a row, in order
};

// Where values lie.
class ValueStays {
 public:
  ValueStays(const Function& legal, const Allocation& how, const CompiledFunction& emitted,
             const Target& target)
      : code_(how.code), offsets_(how.code, emitted), target_(target) {
    PairedCode paired = in_pairs(legal, how, target);
    for (const Overwrite& o : paired.overwrites) overwrites_.push_back({o.place, o.row});
    std::sort(overwrites_.begin(), overwrites_.end());
    Scratch work;
    LiveRanges ranges = live_ranges(paired.code, target, &work);
    for (size_t k = 0; k < paired.pairs.size(); ++k)
      for (const Segment& s : ranges.virtuals[k]) add(paired.pairs[k], s);
    arrive(legal);
    std::sort(rows_.begin(), rows_.end(), [](const Row& a, const Row& b) {
      return std::tie(a.value, a.stay.from, a.stay.to) < std::tie(b.value, b.stay.from, b.stay.to);
    });
  }

  // The value's stays within [from, to), without overlap.
  void clip(Value v, uint32_t from, uint32_t to, std::vector<Stay>& out) const {
    auto at = std::lower_bound(rows_.begin(), rows_.end(), v.index,
                               [](const Row& r, uint32_t value) { return r.value < value; });
    for (; at != rows_.end() && at->value == v.index && from < to; ++at) {
      Stay s = at->stay;
      s.from = std::max(s.from, from), s.to = std::min(s.to, to);
      if (s.from >= s.to) continue;
      out.push_back(s);
      from = s.to;
    }
  }

  bool knows(Value v) const {
    return std::binary_search(rows_.begin(), rows_.end(), Row{v.index, {}},
                              [](const Row& a, const Row& b) { return a.value < b.value; });
  }

  int64_t frame_place(size_t slot) const {
    const uint64_t above =
        code_.frame.bytes + target_.frame.saved_bytes(target_, code_.frame.saved) + target_.frame.return_bytes;
    return code_.slots[slot].offset - static_cast<int64_t>(above);
  }

 private:
  struct Row {
    uint32_t value;
    Stay stay;
  };

  // Parameters lie in registers before the first instruction.
  void arrive(const Function& legal) {
    std::vector<Type> types;
    for (Value v : legal.parameters()) types.push_back(legal.type(v));
    uint64_t bytes = 0;
    const auto where = arrivals(target_.convention, types, bytes);
    for (size_t k = 0; k < where.size(); ++k)
      if (where[k].reg != no_register)
        rows_.push_back(
            {legal.parameters()[k].index, {0, end_of(where[k].reg, 0), Where::Register, where[k].reg}});
  }

  void add(const Pair& p, const Segment& s) {
    const uint32_t first = s.from / 2, last = (s.to - 1) / 2;
    Stay out{offsets_.of(s.from % 2 ? first + 1 : first), end_of(p.place, last), Where::Register, p.place};
    if (p.place >= first_virtual) out.where = Where::Frame, out.place = frame_place(p.place - first_virtual);
    if (out.from < out.to) rows_.push_back({p.value.index, out});
  }
  // Behind the last row that takes the value from its place, the value stays there until something else is
  // put there, or the block ends.
  uint32_t end_of(uint32_t place, uint32_t last) const {
    const CodeBlock& b = code_.blocks[offsets_.block_of(last)];
    const uint32_t end = b.first + b.count;
    auto over = std::lower_bound(overwrites_.begin(), overwrites_.end(), std::pair(place, last));
    if (over == overwrites_.end() || over->first != place || over->second >= end) return offsets_.of(end);
    const uint32_t behind = offsets_.of(over->second + 1);
    return code_.code[over->second].call == none ? behind : behind - 1;
  }

  const Code& code_;
  Offsets offsets_;
  const Target& target_;
  std::vector<std::pair<uint32_t, uint32_t>> overwrites_;  // by place: rows
  std::vector<Row> rows_;                                  // by value, in order
};

class VariableWalk {
 public:
  VariableWalk(const Function& legal, std::span<const Watched> watched, const Allocation& how,
               const CompiledFunction& emitted, const Target& target)
      : f_(legal), code_(how.code), emitted_(emitted), stays_(legal, how, emitted, target) {
    for (uint32_t k = 0; k < code_.slots.size(); ++k)
      if (code_.slots[k].origin.exists()) slots_[code_.slots[k].origin.index] = k;
    number_variables(watched);
    find_events(watched);
  }

  std::vector<VariableFact> run() {
    flow();
    for (uint32_t b = 0; b < code_.blocks.size(); ++b) write(b);
    return std::move(out_);
  }

 private:
  // What a variable has: a row of meanings_, or:
  static constexpr uint32_t unreached = 0xffffffff, gone = 0xfffffffe;
  struct Meaning {
    Where where;  // Register: of a value, wherever that is
    uint64_t what;
  };
  struct Event {
    uint32_t settled;  // where all that stands before it is done
    uint32_t until;    // where something begins that stands behind it
    uint32_t variable, meaning;
  };

  void number_variables(std::span<const Watched> watched) {
    for (const Watched& w : watched) {
      auto [at, is_new] =
          numbers_.try_emplace({w.scope, w.name.index, w.type.name()}, static_cast<uint32_t>(out_.size()));
      if (is_new) {
        namesakes_[{w.scope, w.name.index}].push_back(at->second);
        out_.push_back({w.name, w.type, false, w.scope, {}});
      }
      out_[at->second].is_parameter |= w.is_parameter;
      variables_.push_back(at->second);
    }
  }

  // What has no register of its own may be the bits of a value that has one, a bool as a byte among them.
  Value holder_of(Value v) const {
    while (v.exists() && !stays_.knows(v)) {
      const Instruction d = f_.definition(v);
      if (!d.exists() || (f_.op(d) != Op::Bits && f_.op(d) != Op::WidenU)) break;
      const Value from = f_.operand(d, 0);
      if (carrier(f_.type(from)).total_bits() != carrier(f_.type(v)).total_bits()) break;
      v = from;
    }
    return v;
  }

  uint32_t meaning_of(const Watched& w) {
    Meaning m{Where::Register, holder_of(w.value).index};
    if (w.slot.exists()) {
      const auto slot = slots_.find(w.slot.index);
      if (slot == slots_.end()) return gone;
      m = {Where::Frame, static_cast<uint64_t>(stays_.frame_place(slot->second))};
    } else if (!w.value.exists()) {
      return gone;
    } else if (f_.is_constant(w.value)) {
      m = {Where::Constant, f_.constant_bits(w.value)};
    }
    auto [at, is_new] =
        known_.try_emplace({static_cast<uint8_t>(m.where), m.what}, static_cast<uint32_t>(meanings_.size()));
    if (is_new) meanings_.push_back(m);
    return at->second;
  }

  // The instructions of each block that watches something, by the order of what they came from.
  struct Came {
    uint32_t order, from, to;
  };
  void find_events(std::span<const Watched> watched) {
    std::map<uint32_t, std::vector<uint32_t>> by_block;  // rows of watched
    for (uint32_t k = 0; k < watched.size(); ++k) by_block[f_.block(watched[k].before).index].push_back(k);
    events_.resize(code_.blocks.size());
    for (uint32_t b = 0; b < code_.blocks.size(); ++b) {
      auto rows = by_block.find(code_.blocks[b].origin.index);
      if (rows == by_block.end()) continue;
      std::map<uint32_t, uint32_t> order;  // by instruction
      for (Instruction i : f_.instructions(code_.blocks[b].origin))
        order.emplace(i.index, static_cast<uint32_t>(order.size()));
      const std::vector<Came> lines = came(b, order);
      for (uint32_t k : rows->second) event(b, lines, order.at(watched[k].before.index), k, watched[k]);
    }
  }
  std::vector<Came> came(uint32_t b, const std::map<uint32_t, uint32_t>& order) const {
    std::vector<Came> out;
    auto line = std::lower_bound(emitted_.lines.begin(), emitted_.lines.end(), start_of(b),
                                 [](const EmittedLine& l, uint32_t at) { return l.offset < at; });
    for (; line != emitted_.lines.end() && line->offset < end_of(b); ++line)
      if (auto at = order.find(line->origin.index); line->origin.exists() && line->size && at != order.end())
        out.push_back({at->second, line->offset, line->offset + line->size});
    std::sort(out.begin(), out.end(), [](const Came& x, const Came& y) { return x.order < y.order; });
    for (size_t k = 1; k < out.size(); ++k) out[k].to = std::max(out[k].to, out[k - 1].to);
    for (size_t k = out.size(); k-- > 1;) out[k - 1].from = std::min(out[k - 1].from, out[k].from);
    return out;  // `to`: where this and all before is done; `from`: where this or something behind begins
  }
  void event(uint32_t b, const std::vector<Came>& lines, uint32_t order, uint32_t row, const Watched& w) {
    auto behind = std::lower_bound(lines.begin(), lines.end(), order,
                                   [](const Came& c, uint32_t o) { return c.order < o; });
    Event e{start_of(b), end_of(b), variables_[row], meaning_of(w)};
    if (behind != lines.begin()) e.settled = (behind - 1)->to;
    if (behind != lines.end()) e.until = behind->from;
    // Of another type it is another variable, which hides this one.
    for (uint32_t v : namesakes_.at({w.scope, w.name.index}))
      if (v != e.variable) events_[b].push_back({e.settled, e.until, v, gone});
    events_[b].push_back(e);
  }
  uint32_t start_of(uint32_t b) const { return emitted_.blocks[b].offset; }
  uint32_t end_of(uint32_t b) const { return emitted_.end_of_block(b); }

  // What each variable has at the start of each block.
  void flow() {
    const size_t count = out_.size();
    at_start_.assign(code_.blocks.size() * count, unreached);
    std::fill_n(at_start_.begin(), count, gone);
    std::vector<uint32_t> work{0}, state;
    while (!work.empty()) {
      const uint32_t b = work.back();
      work.pop_back();
      state.assign(at_start_.begin() + static_cast<ptrdiff_t>(b * count),
                   at_start_.begin() + static_cast<ptrdiff_t>((b + 1) * count));
      for (const Event& e : events_[b]) state[e.variable] = e.meaning;
      for (uint32_t to : code_.successors(code_.blocks[b])) {
        bool changed = false;
        for (size_t v = 0; v < count; ++v) {
          uint32_t& there = at_start_[to * count + v];
          const uint32_t met = there == unreached || there == state[v] ? state[v] : gone;
          changed |= met != there;
          there = met;
        }
        if (changed) work.push_back(to);
      }
    }
  }

  void write(uint32_t b) {
    const size_t count = out_.size();
    std::vector<uint32_t> state(at_start_.begin() + static_cast<ptrdiff_t>(b * count),
                                at_start_.begin() + static_cast<ptrdiff_t>((b + 1) * count));
    std::vector<uint32_t> since(count, start_of(b));
    for (const Event& e : events_[b]) {
      stay(e.variable, state[e.variable], since[e.variable], std::min(e.until, e.settled));
      state[e.variable] = e.meaning, since[e.variable] = std::max(since[e.variable], e.settled);
    }
    for (uint32_t v = 0; v < count; ++v) stay(v, state[v], since[v], end_of(b));
  }
  void stay(uint32_t variable, uint32_t meaning, uint32_t from, uint32_t to) {
    if (meaning >= gone || from >= to) return;
    const Meaning& m = meanings_[meaning];
    std::vector<Stay> now;
    if (m.where == Where::Register)
      stays_.clip(Value(m.what), from, to, now);
    else
      now.push_back({from, to, m.where, static_cast<int64_t>(m.what)});
    std::vector<Stay>& all = out_[variable].stays;
    for (const Stay& s : now) {
      const bool goes_on = !all.empty() && all.back().to == s.from && all.back().where == s.where &&
                           all.back().place == s.place;
      if (goes_on)
        all.back().to = s.to;
      else
        all.push_back(s);
    }
  }

  const Function& f_;
  const Code& code_;
  const CompiledFunction& emitted_;
  ValueStays stays_;
  std::map<std::tuple<InlineScope, uint32_t, std::string>, uint32_t>
      numbers_;  // by name and type: row of out_
  std::map<std::pair<InlineScope, uint32_t>, std::vector<uint32_t>> namesakes_;  // rows of out_
  std::map<std::pair<uint8_t, uint64_t>, uint32_t> known_;                       // rows of meanings_
  std::map<uint32_t, uint32_t> slots_;  // of the frame, by what reserves them
  std::vector<uint32_t> variables_;     // by row of watched
  std::vector<Meaning> meanings_;
  std::vector<std::vector<Event>> events_;  // by block
  std::vector<uint32_t> at_start_;          // by block and variable
  std::vector<VariableFact> out_;
};

}  // namespace

std::vector<VariableFact> variable_facts(const Function& legal, std::span<const Watched> watched,
                                         const Allocation& how, const CompiledFunction& code,
                                         const Target& target) {
  if (watched.empty()) return {};
  return VariableWalk(legal, watched, how, code, target).run();
}

}  // namespace porphyry::machine
