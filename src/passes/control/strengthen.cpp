// strengthen: a check that traps asks for what later ones ask for as well (check strengthening: P. Kolte,
// M. Wolfe, "Elimination of Redundant Array Subscript Range Checks", 1995). Idea: walking backwards, each
// block learns which bounds all ways from it check before anything is seen from outside; up to there a trap
// may come earlier. A check takes over what is wanted behind it, so that the later ones are implied; and
// before a branch whose ways check the same thing, one check stands for all of them. Invariant: whatever is
// wanted at a block traps on every way from it unless it holds, and no way goes round a loop first. O(blocks
// * `most_wanted`^2).
#include <fmt/format.h>

#include <algorithm>
#include <unordered_map>

#include "porphyry/analyze/bounds.h"
#include "porphyry/analyze/number.h"
#include "porphyry/ir/edit.h"
#include "porphyry/ir/pen.h"
#include "porphyry/ir/words.h"
#include "porphyry/optimize/pass.h"
#include "porphyry/print/print.h"

namespace porphyry {
namespace {

constexpr size_t most_wanted = 16;  // bounds that are kept of one block

struct Wanted {
  Bound bound;
  Instruction by;        // the first check on the ways from here, or one of them
  bool several = false;  // checks of exactly this stand on several ways
};
using WantedList = std::vector<Wanted>;

bool same_sum(const Bound& a, const Bound& b) {
  return a.root == b.root && a.offset == b.offset && a.limit == b.limit;
}

void want(WantedList& list, const Wanted& w) {
  auto known =
      std::find_if(list.begin(), list.end(), [&](const Wanted& x) { return same_sum(x.bound, w.bound); });
  if (known == list.end()) {
    if (list.size() < most_wanted) list.push_back(w);
  } else if (known->bound.bytes < w.bound.bytes) {
    *known = w;
  } else {
    known->by = w.by, known->several = false;
  }
}

// What both want.
WantedList met(const WantedList& a, const WantedList& b) {
  WantedList out;
  for (const Wanted& x : a)
    for (const Wanted& y : b) {
      if (!same_sum(x.bound, y.bound)) continue;
      const Bits less = std::min(x.bound.bytes, y.bound.bytes);
      bool several = (x.bound.bytes == y.bound.bytes && x.by != y.by) ||
                     (x.bound.bytes == less && x.several) || (y.bound.bytes == less && y.several);
      out.push_back(x.bound.bytes == less ? x : y);
      out.back().several = several;
    }
  return out;
}

class Strengthener {
 public:
  explicit Strengthener(FunctionContext& c)
      : c_(c), f_(c.function), dominators_(c.facts.get<Dominators>()), limits_(c.module, c.function) {}

  void run() {
    find_wanted();
    for (Block b : dominators_.order()) {
      Instruction end = f_.terminator(b);
      if (!end.exists() || f_.edge_count(end) < 2) continue;
      if (auto check = trapping_check(f_, end))
        take_over(end, *check);
      else
        find_shared(b);
    }
    for (const auto& [b, w] : shared_) check_before_branch(b, w);
  }

 private:
  // ---- what is wanted -------------------------------------------------------------------------------------

  // Calls, volatile accesses and guarded stores count at a later trap.
  bool shows_something(Instruction i) const {
    const OperationInfo& row = info(f_.op(i));
    if (row.calls() || row.marks()) return true;
    bool access = row.layout == Layout::Load || row.layout == Layout::Store || row.layout == Layout::Fill;
    return access && (f_.address(i).is_volatile || (f_.address(i).guarded && row.writes_memory()));
  }

  void find_wanted() {
    wanted_.resize(f_.block_limit());
    done_.resize(f_.block_limit());
    for (size_t n = dominators_.order().size(); n-- > 0;) {
      Block b = dominators_.order()[n];
      WantedList list = wanted_behind(b);
      Instruction end = f_.terminator(b);
      if (auto check = end.exists() ? trapping_check(f_, end) : std::nullopt)
        want(list, {check->check.bound, end});
      for (Instruction i = f_.last(b); i.exists() && !list.empty(); i = f_.previous(i)) {
        if (shows_something(i)) list.clear();
        std::erase_if(list,
                      [&](const Wanted& w) { return made_by(i, w.bound.root) || made_by(i, w.bound.limit); });
      }
      wanted_[b.index] = std::move(list), done_[b.index] = 1;
    }
  }
  bool made_by(Instruction i, Value v) const { return f_.definition(v) == i; }

  // On all ways that a block leaves by, but for those that only trap.
  WantedList wanted_behind(Block b) const {
    std::optional<WantedList> out;
    for (Edge e : f_.edges(b)) {
      if (only_traps(f_, f_.to(e))) continue;
      WantedList way = wanted_along(e);
      out = out ? met(*out, way) : std::move(way);
      if (out->empty()) break;
    }
    return out.value_or(WantedList());
  }
  // In values that are there before the edge; nothing along a way back into a loop.
  WantedList wanted_along(Edge e) const {
    if (!done_[f_.to(e).index]) return {};
    WantedList out = wanted_[f_.to(e).index];
    for (Wanted& w : out) {
      if (Value root = brought(e, w.bound.root); root != w.bound.root) {
        Bound from = root_of(f_, root);
        w.bound.root = from.root;
        w.bound.offset = (w.bound.offset + from.offset) & mask_of(f_.type(root).bits());
      }
      w.bound.limit = brought(e, w.bound.limit);
    }
    std::erase_if(out, [&](const Wanted& w) { return f_.is_constant(w.bound.root); });
    return out;
  }
  Value brought(Edge e, Value v) const {
    bool parameter = f_.kind(v) == ValueKind::BlockParameter && f_.defining_block(v) == f_.to(e);
    return parameter ? f_.argument(e, f_.result_index(v)) : v;
  }

  // ---- what is checked earlier ----------------------------------------------------------------------------

  void take_over(Instruction end, const TrappingCheck& own) {
    const Bound& bound = own.check.bound;
    const Bits mask = mask_of(f_.type(bound.root).bits()), most = limits_.most(f_, bound.limit);
    Bits bytes = bound.bytes;
    Instruction later;
    for (const Wanted& w : wanted_along(own.goes_on)) {
      if (w.bound.root != bound.root || w.bound.limit != bound.limit) continue;
      const Bits behind = (w.bound.offset - bound.offset) & mask;
      // Where the own bound holds, the later sum does not wrap.
      bool apart = behind == 0 || (most > bound.bytes ? most - bound.bytes : 0) + behind <= mask;
      if (apart && behind + w.bound.bytes > bytes) bytes = behind + w.bound.bytes, later = w.by;
    }
    Bound now = bound;
    if (later.exists() && fits(own.check.wide, bytes) && !known(f_.block(end), bound)) {
      now.bytes = bytes;
      Pen pen(c_.module, f_);
      pen.before(end).from(f_.position(end));
      if (c_.wants_notes())
        c_.done(f_.position(end), c_.name(f_.operand(end, 0)),
                fmt::format("checks {} bytes instead of {}", uint64_t(bytes), uint64_t(bound.bytes)),
                nothing_seen(later));
      f_.set(f_.operand_slot(end, 0), compared(pen, own.check.wide, now, own.check.exceeds));
    }
    if (dominators_.only_way_in(f_, f_.to(own.goes_on)) == own.goes_on)
      known_[now.root.index].push_back({f_.to(own.goes_on), now});
  }
  bool fits(Value wide, Bits bytes) const {
    Number n = number_of(f_, wide);
    return n.exists() && n.high + bytes <= mask_of(n.width);
  }

  void find_shared(Block b) {
    for (const Wanted& w : wanted_behind(b)) {
      if (!w.several || !can_compute(w.bound) || known(b, w.bound)) continue;
      shared_.push_back({b, w});
      for (Edge e : f_.edges(b))
        if (dominators_.only_way_in(f_, f_.to(e)) == e)
          known_[w.bound.root.index].push_back({f_.to(e), w.bound});
    }
  }
  bool can_compute(const Bound& bound) const {
    unsigned bits = f_.type(bound.root).bits(), limit_bits = f_.type(bound.limit).bits();
    return limit_bits > bits || (limit_bits == bits && bound.offset == 0 && fits(bound.root, bound.bytes));
  }
  bool known(Block b, const Bound& bound) const {
    auto at = known_.find(bound.root.index);
    if (at == known_.end()) return false;
    const auto& all = at->second;
    for (size_t n = all.size(), left = budget; n-- > 0 && left-- > 0;)
      if (all[n].bound.limit == bound.limit && dominators_.dominates(all[n].from, b) &&
          implies(f_, all[n].bound, bound))
        return true;
    return false;
  }

  void check_before_branch(Block b, const Wanted& w) {
    Instruction end = f_.terminator(b);
    Position position = f_.position(w.by);
    if (c_.wants_notes())
      c_.done(position, c_.name(w.bound.root),
              fmt::format("{} bytes are checked before {}", uint64_t(w.bound.bytes),
                          write_text(c_.module, f_, end)),
              nothing_seen(w.by));
    Pen pen(c_.module, f_);
    pen.before(end).from(position);
    Value wide = w.bound.root;
    if (w.bound.offset) wide = pen.add(wide, f_.constant(f_.type(wide), w.bound.offset));
    if (f_.type(wide) != f_.type(w.bound.limit)) wide = pen.widen_u(f_.type(w.bound.limit), wide);
    const Value exceeds = compared(pen, wide, w.bound, true);
    Block next = f_.split(b, end), out = f_.add_block_after(b);
    f_.erase(f_.terminator(b));
    const Function::Draft::Destination ways[] = {{out}, {next}};
    pen.at_end(b).put(
        {.op = Op::When, .operands = {&exceeds, 1}, .targets = ways, .hint = Function::Hint::Rarely});
    pen.at_end(out).trap();
  }
  Value compared(Pen& pen, Value wide, const Bound& bound, bool exceeds) {
    Value end = pen.write(Op::Add, {wide, f_.constant(f_.type(wide), bound.bytes)}, promise::fits_u);
    return pen.write(exceeds ? Op::GtU : Op::LeU, {end, bound.limit});
  }
  std::string nothing_seen(Instruction later) const {
    return fmt::format("nothing is seen from outside before {}", write_text(c_.module, f_, later));
  }

  struct Known {
    Block from;
    Bound bound;
  };
  static constexpr size_t budget = 64;  // bounds of one root that are looked at, the newest first
  FunctionContext& c_;
  Function& f_;
  const Dominators& dominators_;
  const GrowingLimits limits_;
  std::vector<WantedList> wanted_;                          // by block, at its start
  std::vector<uint8_t> done_;                               // by block: whether that is known yet
  std::unordered_map<uint32_t, std::vector<Known>> known_;  // by root
  std::vector<std::pair<Block, Wanted>> shared_;
};

}  // namespace

void strengthen(FunctionContext& c) {
  size_t traps = 0;
  for (Block b : c.function.blocks()) traps += only_traps(c.function, b);
  if (traps > 1) Strengthener(c).run();
}

}  // namespace porphyry
