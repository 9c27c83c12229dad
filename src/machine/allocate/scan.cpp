// Idea: ranges are taken by where they begin; each gets a register that is free wherever the range lives,
// holes of other ranges included. Where none is, the one that costs least to split (this one, or those in its
// way in one register) is marked, and the rest go on. Invariant: two ranges in one register never meet; what
// is marked has no register, and is split before the next round. Cost: O(n log n) for n ranges and segments,
// a search for each candidate register.
#include "scan.h"

#include <algorithm>
#include <bit>
#include <limits>

#include "long_names.h"

namespace porphyry::machine {

Scan::Scan(const Code& f, const Target& target, const Pieces& pieces, LiveRanges ranges,
           std::pmr::memory_resource* work)
    : f_(f),
      work_(work),
      target_(target),
      pieces_(pieces),
      ranges_(std::move(ranges)),
      one_(f.virtuals.size(), work),
      hints_(f.virtuals.size(), work),
      friends_(f.virtuals.size(), work),
      place_(f.virtuals.size(), no_register, work),
      split_(f.virtuals.size(), work),
      physical_(target.register_count(), Physical(work), work),
      to_split_(work),
      split_reasons_(work),
      longer_(work) {}

Scan::Scan(const Code& f, const Target& target, const Pieces& pieces, std::pmr::memory_resource* work)
    : Scan(f, target, pieces, live_ranges(f, target, work), work) {
  one_ = coalesce(f, ranges_, work);
}

// Pieces of split registers stay apart: they may have to be split again. Two others that did not coalesce
// have ranges that meet, and these did not change.
Scan::Scan(const Scan& before, const LineMoves& moves, std::pmr::memory_resource* work)
    : Scan(before.f_, before.target_, before.pieces_,
           carried_over(before.ranges_, before.split_, moves, before.f_, before.target_, work), work) {
  for (uint32_t v = 0; v < before.one_.size(); ++v)
    if (const uint32_t r = before.root(v); r != v) one_.join(v, r);
}

void Scan::run() {
  gather_hints();
  if (f_.counts_bytes) longer_ = with_long_names(f_, target_, ranges_, one_, hints_, work_);
  struct Start {
    uint32_t at, v;
  };
  std::pmr::vector<Start> order(work_);
  order.reserve(one_.size());
  for (uint32_t v = 0; v < one_.size(); ++v)
    if (root(v) == v && !ranges_.virtuals[v].empty()) order.push_back({first(v), v});
  std::sort(order.begin(), order.end(),
            [](const Start& a, const Start& b) { return a.at != b.at ? a.at < b.at : a.v < b.v; });
  for (const Start& s : order)
    for (unsigned r : hints_[s.v])
      if (!meet(ranges_.virtuals[s.v], ranges_.blocked[r])) physical_[r].wishers.push_back(s.v);
  for (const Start& s : order) place(s.v);
  tell_members();
}

// Copies from and to physical registers, and to others that did not coalesce, say where a value would like to
// be.
void Scan::gather_hints() {
  auto befriend = [&](uint32_t a, uint32_t b) {
    for (uint32_t& f : friends_[a].of)
      if (f == none) return void(f = b);
  };
  for (const CodeLine& i : f_.code) {
    if (i.form != copy_form) continue;
    Register to = f_.of(i)[0].reg, from = f_.of(i)[1].reg;
    if (is_virtual(to) && is_physical(from)) hints_[one_.find(to - first_virtual)].add(from);
    if (is_virtual(from) && is_physical(to)) hints_[one_.find(from - first_virtual)].add(to);
    if (!is_virtual(to) || !is_virtual(from)) continue;
    uint32_t a = one_.find(to - first_virtual), b = one_.find(from - first_virtual);
    if (a != b) befriend(a, b), befriend(b, a);
  }
}

RegisterSet Scan::wishes(uint32_t v) const {
  RegisterSet out = hints_[v];
  for (uint32_t f : friends_[v].of)
    if (f != none && place_[f] != no_register) out.add(place_[f]);
  return out;
}

float Scan::cost(uint32_t v) const {
  if (f_.virtuals[v].brief) return std::numeric_limits<float>::infinity();
  uint32_t length = 1;
  for (const Segment& s : ranges_.virtuals[v]) length += s.to - s.from;
  return ranges_.weights[v] / static_cast<float>(length);
}

// Wished for first, then free to clobber, those with long names before others where they cost nothing, then
// kept ones already used, of both rather what no later one wishes for; a further kept one only when saving
// and restoring it pays.
void Scan::place(uint32_t v) {
  const RegisterClass& c = target_.classes[f_.virtuals[v].register_class];
  RegisterSet all = RegisterSet::run(c.first, c.count) - target_.convention.reserved;
  const RegisterSet& kept = target_.convention.kept;
  RegisterSet fresh = (all & kept) - used_;
  constexpr float upkeep = 2;  // a push and a pop for each run of the function
  bool pays = ranges_.weights[v] >= upkeep || f_.virtuals[v].brief;
  RegisterSet open = pays ? all : all - fresh, wished = wishes(v) & open;
  RegisterSet spared;
  const RegisterSet longer = !longer_.empty() && longer_[v] ? target_.upkeep.longer : RegisterSet();
  if (try_registers(v, wished) || try_registers(v, (open & longer) - kept - wished, &spared) ||
      try_registers(v, open - longer - kept - wished, &spared) ||
      try_registers(v, (open & kept & used_) - wished, &spared))
    return;
  if (!spared.empty()) return put(v, *spared.begin());
  if (!try_registers(v, (open & fresh) - wished)) make_room(v, open);
}

// A few of those that begin while `v` lives are asked.
bool Scan::is_wished_for(uint32_t v, unsigned r) {
  constexpr size_t most_asked = 4;
  const auto& wishers = physical_[r].wishers;
  uint32_t& passed = physical_[r].passed_wishers;
  while (passed < wishers.size() && first(wishers[passed]) < first(v)) ++passed;
  for (size_t k = passed; k < wishers.size() && k < passed + most_asked && first(wishers[k]) < last(v); ++k)
    if (wishers[k] != v && overlap(v, wishers[k])) return true;
  return false;
}

void Scan::Holder::pass(const Segments& segments, uint32_t position) {
  while (segments[passed].to <= position) ++passed;
  from = segments[passed].from, to = segments[passed].to;
}

bool Scan::try_registers(uint32_t v, const RegisterSet& among, RegisterSet* spared) {
  const Segments& mine = ranges_.virtuals[v];
  const uint32_t now = first(v), first_end = mine.front().to, end = last(v);
  for (unsigned r : among) {
    auto& there = physical_[r].holders;
    bool some_ended = false;
    auto is_in_the_way = [&](Holder& h) {
      const Segments& theirs = ranges_.virtuals[h.root];
      if (h.to <= now) {
        if (h.end <= now) return some_ended = true, false;
        h.pass(theirs, now);
      }
      if (h.from < first_end || h.from >= end) return h.from < first_end;  // nearly always
      return meet(mine, std::span<const Segment>(theirs).subspan(h.passed));
    };
    const bool taken = std::any_of(there.begin(), there.end(), is_in_the_way);
    if (some_ended) std::erase_if(there, [&](const Holder& h) { return h.end <= now; });
    if (taken) continue;
    if (is_blocked(v, r)) continue;
    if (spared && is_wished_for(v, r)) {
      spared->add(r);
      continue;
    }
    put(v, r);
    return true;
  }
  return false;
}

// Whether the code itself uses a register while `v` lives. Ranges come in the order of where they begin, so
// what ended before one of them is in nobody's way any more.
bool Scan::is_blocked(uint32_t v, unsigned r) {
  std::span<const Segment> blocked = ranges_.blocked[r];
  uint32_t& passed = physical_[r].passed_blocked;
  while (passed < blocked.size() && blocked[passed].to <= first(v)) ++passed;
  return meet(ranges_.virtuals[v], blocked.subspan(passed));
}

// Whether a range lies within one block, without holes.
bool Scan::is_local(uint32_t v) const {
  const Segments& s = ranges_.virtuals[v];
  if (f_.virtuals[v].brief || s.size() != 1) return false;
  const uint32_t line = s[0].from / 2;
  auto behind = std::upper_bound(f_.blocks.begin(), f_.blocks.end(), line,
                                 [](uint32_t at, const CodeBlock& b) { return at < b.first; });
  const CodeBlock& block = *(behind - 1);
  return (s[0].to - 1) / 2 < block.first + block.count;
}

// How many positions behind `at` it is read, as far as that is looked at.
uint32_t Scan::until_use(uint32_t v, uint32_t at) const {
  constexpr uint32_t sight = 64;
  const uint32_t end = std::min(last(v), at + sight);
  for (uint32_t line = (at + 1) / 2; 2 * line < end; ++line) {
    bool reads = false;
    each_register(f_, f_.code[line], [&](Register r, bool read, bool) {
      reads |= read && is_virtual(r) && root(r - first_virtual) == v;
    });
    if (reads) return 2 * line - at;
  }
  return end - at;
}

// Of ranges within one block, the register of the one whose next use is farthest, no_register when that is
// this one's (L. Belady, "A Study of Replacement Algorithms for a Virtual-Storage Computer", 1966): whatever
// goes costs one reload, and is in nobody's way until then.
Register Scan::farthest(uint32_t v, const RegisterSet& among, Register otherwise) const {
  const uint32_t at = first(v);
  auto nearest = [&](Register r) {
    uint32_t out = std::numeric_limits<uint32_t>::max();
    for (const Holder& h : physical_[r].holders)
      if (overlap(v, h.root)) out = is_local(h.root) ? std::min(out, until_use(h.root, at)) : 0;
    return out == std::numeric_limits<uint32_t>::max() ? 0 : out;
  };
  Register where = otherwise;
  uint32_t best = where == no_register ? until_use(v, at) : nearest(where);
  for (unsigned r : among) {
    if (meet(ranges_.virtuals[v], ranges_.blocked[r])) continue;
    if (const uint32_t far = nearest(r); far > best) best = far, where = r;
  }
  return until_use(v, at) > best ? no_register : where;
}

// The cheapest to split goes: this one, or those in its way in one register.
void Scan::make_room(uint32_t v, const RegisterSet& among) {
  float best = cost(v);
  Register where = no_register;
  bool only_calls = true;
  for (unsigned r : among) {
    if (is_blocked(v, r)) continue;
    only_calls = false;
    float sum = 0;
    for (const Holder& h : physical_[r].holders)
      if (overlap(v, h.root)) sum += cost(h.root);
    if (sum < best) best = sum, where = r;
  }
  auto all_local = [&](Register r) {
    return std::all_of(physical_[r].holders.begin(), physical_[r].holders.end(),
                       [&](const Holder& h) { return !overlap(v, h.root) || is_local(h.root); });
  };
  if (is_local(v) && (where == no_register || all_local(where))) where = farthest(v, among, where);
  if (where == no_register)
    return mark_for_splitting(v, first(v), none,
                              only_calls ? SplitReason::Why::NoneLasts : SplitReason::Why::Crowded);
  auto& there = physical_[where].holders;
  for (const Holder& h : there)
    if (overlap(v, h.root)) mark_for_splitting(h.root, first(v), v, SplitReason::Why::Outbid);
  std::erase_if(there, [&](const Holder& h) { return split_[h.root]; });
  put(v, where);
}

void Scan::put(uint32_t v, unsigned r) {
  place_[v] = r;
  used_.add(r);
  const Segment& start = ranges_.virtuals[v].front();
  physical_[r].holders.push_back({.root = v, .end = last(v), .from = start.from, .to = start.to});
}

void Scan::mark_for_splitting(uint32_t v, uint32_t at, uint32_t by, SplitReason::Why why) {
  split_[v] = true;
  place_[v] = no_register;
  to_split_.push_back({v, at, by, why});
}

// What became of roots, told of each value that was part of them.
void Scan::tell_members() {
  if (to_split_.empty()) return;
  struct Member {
    uint32_t root;
    Value value;
    bool operator<(const Member& o) const {
      return root != o.root ? root < o.root : value.index < o.value.index;
    }
    bool operator==(const Member& o) const { return root == o.root && value == o.value; }
  };
  std::pmr::vector<uint8_t> told(split_, work_);
  for (const ToSplit& e : to_split_)
    if (e.by != none) told[e.by] = true;
  std::pmr::vector<Member> members(work_);
  for (uint32_t v = 0; v < one_.size(); ++v)
    if (told[root(v)] && f_.virtuals[v].origin.exists()) members.push_back({root(v), f_.virtuals[v].origin});
  std::sort(members.begin(), members.end());
  members.erase(std::unique(members.begin(), members.end()), members.end());
  auto first_of = [&](uint32_t root) {
    return std::lower_bound(members.begin(), members.end(), Member{root, Value(0)});
  };
  for (const ToSplit& e : to_split_) {
    auto by = e.by == none ? members.end() : first_of(e.by);
    Value by_value = by != members.end() && by->root == e.by ? by->value : Value();
    // The instruction at the place, or the next one that came from the program.
    Instruction at;
    for (uint32_t k = e.at / 2; k < f_.code.size() && !at.exists(); ++k) at = f_.code[k].origin;
    for (auto m = first_of(e.root); m != members.end() && m->root == e.root; ++m)
      split_reasons_.push_back({m->value, at, by_value, e.why, cost(e.root)});
  }
}

}  // namespace porphyry::machine
