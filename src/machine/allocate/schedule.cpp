// Idea: within a stretch of a block (up to a call or the jumps at its end), lines that must stay together
// form a node; nodes depend on one another through registers, memory and traps. Slot by slot the node that
// has the longest chain of dependents is put next, among those whose operands and unit are there, that stand
// close enough to their turn and for which there are registers. Invariant: every line stands behind all it
// depends on, and registers that coalescing will make one keep the order of their reads and writes, so that
// an order costs no copy. The order is taken only if the estimate gets shorter; where the estimate is what
// chains of operands and the units ask for in any order, nothing is tried. Cost: O(n log n) for n lines, and
// the lists of what depends on what.
#include "porphyry/machine/schedule.h"

#include <algorithm>
#include <array>
#include <optional>

#include "coalesce.h"

namespace porphyry::machine {
namespace {

constexpr uint32_t furthest = 12;  // instructions that one may overtake

constexpr size_t class_count = 2;

// How many registers of each class hold values.
struct Pressure {
  int of[class_count] = {};
  bool exceeds(const Pressure& limit) const {
    for (size_t c = 0; c < class_count; ++c)
      if (of[c] > limit.of[c]) return true;
    return false;
  }
  void raise_to(const Pressure& other) {
    for (size_t c = 0; c < class_count; ++c) of[c] = std::max(of[c], other.of[c]);
  }
};

// Lines that stay together, in their order.
struct Node {
  uint32_t first, count;  // lines
  // Times are in slots, of which a cycle has as many as instructions begin in it.
  uint32_t latency = 1;
  uint32_t issue = 1;      // slots until the next one can begin; none for copies that coalescing removes
  uint32_t height = 0;     // of the longest way to the end
  uint32_t waits_for = 0;  // nodes before it that are not yet placed
  uint32_t ready = 0;      // when its operands are there
  uint32_t first_edge = none;
  uint8_t unit = no_unit;
  uint32_t busy = 0;  // until the next one gets the unit
};

struct Edge {
  uint32_t to, next, slots;
};

// An order of a stretch's nodes, and the most registers it fills at once.
struct Order {
  explicit Order(std::pmr::memory_resource* work) : nodes(work) {}
  std::pmr::vector<uint32_t> nodes;
  Pressure most;
};

// A copy from one virtual register to another, which coalescing most often removes.
bool is_virtual_copy(const Code& f, const CodeLine& i) {
  return i.form == copy_form && is_virtual(f.of(i)[0].reg) && is_virtual(f.of(i)[1].reg);
}

uint32_t latency_of(const Code& f, const CodeLine& i, const Target& target) {
  if (is_virtual_copy(f, i)) return 0;
  return i.form < first_real_form ? 1 : target.form(i.form).latency;
}

// A target may be taken without its units.
uint8_t unit_of(const CodeLine& i, const Target& target) {
  const uint8_t unit = i.form < first_real_form ? no_unit : target.form(i.form).unit;
  return unit < target.pace.units.size() ? unit : no_unit;
}

// The clock of estimated_cycles: lines are put in one by one.
class Clock {
 public:
  Clock(const Code& f, const Target& target, std::pmr::memory_resource* work)
      : f_(f),
        target_(target),
        ready_(first_virtual + f.virtuals.size(), work),
        latest_(std::max<size_t>(target.pace.window, 1), work),
        held_(work) {}
  void restart() {
    ++stamp_, begun_ = 0, last_ = 0, end_ = 0, chain_ = 0;
    held_.clear(), sums_ = {};
  }
  void line(const CodeLine& i) {
    const bool is_copy = is_virtual_copy(f_, i);
    uint32_t& place = latest_[begun_ % latest_.size()];  // of the line before those in the window
    uint32_t start = is_copy || begun_ < latest_.size() ? 0 : place, chained = 0;
    auto wait = [&](Register r) {
      if (ready_[r].stamp != stamp_) return;
      start = std::max(start, ready_[r].at), chained = std::max(chained, ready_[r].chained);
    };
    each_register(f_, i, [&](Register r, bool read, bool) {
      if (read) wait(r);
    });
    for (unsigned r : implicit_reads(target_, f_, i)) wait(r);
    if (reads_flags(target_, i)) wait(flags_row);
    if (!is_copy) {
      start = hold(i, start);
      place = last_ = std::max(last_, start);
      ++begun_;
    }
    const uint32_t latency = latency_of(f_, i, target_);
    end_ = std::max(end_, start + std::max<uint32_t>(latency, !is_copy));
    chain_ = std::max(chain_, chained + std::max<uint32_t>(latency, !is_copy));
    auto give = [&](Register r) { ready_[r] = {start + latency, chained + latency, stamp_}; };
    each_register(f_, i, [&](Register r, bool, bool written) {
      if (written) give(r);
    });
    for (unsigned r : implicit_writes(target_, f_, i)) give(r);
    if (writes_flags(target_, f_, i)) give(flags_row);
  }
  uint32_t cycles() const { return end_; }
  // What no order of the lines is faster than: their longest chain of operands, and what each unit has to do.
  uint32_t least() const {
    uint32_t out = chain_;
    for (size_t u = 0; u <= target_.pace.units.size(); ++u)
      out = std::max(out, (sums_[u] + places(u) - 1) / places(u));
    return out;
  }

 private:
  // Units, and behind them the slots of a cycle.
  uint32_t places(size_t u) const {
    return u < target_.pace.units.size() ? target_.pace.units[u].count : target_.pace.issue;
  }

  // The first cycle from `start` on at which all that a line needs is free, which it then holds.
  uint32_t hold(const CodeLine& i, uint32_t start) {
    const size_t width = target_.pace.units.size() + 1;
    std::array<uint8_t, most_units + 1> needs{};  // cycles, by unit
    needs[width - 1] = 1;
    if (const uint8_t unit = unit_of(i, target_); unit != no_unit) needs[unit] = target_.form(i.form).busy;
    for (const CodeOperand& o : f_.of(i)) {
      if (o.kind != OperandKind::Memory) continue;
      if (o.read && target_.pace.load_unit < width) needs[target_.pace.load_unit] = 1;
      if (o.written && target_.pace.store_unit < width) needs[target_.pace.store_unit] = 1;
    }
    auto is_free = [&](uint32_t at) {
      for (size_t u = 0; u < width; ++u)
        for (uint32_t k = 0; k < needs[u]; ++k)
          if (const size_t place = (at + k) * width + u; place < held_.size() && held_[place] >= places(u))
            return false;
      return true;
    };
    while (!is_free(start)) ++start;
    for (size_t u = 0; u < width; ++u) {
      sums_[u] += needs[u];
      for (uint32_t k = 0; k < needs[u]; ++k) {
        const size_t place = (start + k) * width + u;
        if (place >= held_.size()) held_.resize((start + k + 1) * width);
        ++held_[place];
      }
    }
    return start;
  }

  struct Ready {
    uint32_t at = 0, chained = 0;  // with the units there are; if there were any number
    uint32_t stamp = 0;
  };
  const Code& f_;
  const Target& target_;
  std::pmr::vector<Ready> ready_;      // by register: when its value is there, if it has the stamp
  std::pmr::vector<uint32_t> latest_;  // in a ring, of the last lines: when it and all before it had begun
  std::pmr::vector<uint8_t> held_;     // by cycle and unit: how many
  std::array<uint32_t, most_units + 1> sums_{};
  uint32_t stamp_ = 0, begun_ = 0, last_ = 0, end_ = 0, chain_ = 0;
};

// Where registers are live, as the code stands before anything is moved: what scheduling has to respect.
class Liveness {
 public:
  Liveness(const Code& f, const Target& target, std::pmr::memory_resource* work)
      : ranges_(live_ranges(f, target, work)),
        one_(coalesce(f, ranges_, work)),
        changes_(2 * f.code.size() + 2, work) {
    for (uint32_t v = 0; v < one_.size(); ++v)
      for (const Segment& s : ranges_.virtuals[v]) {
        size_t c = std::min<size_t>(f.virtuals[v].register_class, class_count - 1);
        ++changes_[s.from].of[c], --changes_[s.to].of[c];
      }
  }
  const Coalesced& one() const { return one_; }
  bool covers(uint32_t root, uint32_t position) const {
    return machine::covers(ranges_.virtuals[root], position);
  }
  // At the reading position of a line. Lines are asked for in order.
  Pressure before(uint32_t line) {
    for (; at_ <= 2 * line; ++at_)
      for (size_t c = 0; c < class_count; ++c) now_.of[c] += changes_[at_].of[c];
    return now_;
  }

 private:
  LiveRanges ranges_;
  Coalesced one_;
  std::pmr::vector<Pressure> changes_;  // by position: how many ranges begin less how many end
  uint32_t at_ = 0;
  Pressure now_;
};

class BlockScheduler {
 public:
  BlockScheduler(Code& f, const Function& ir, const Target& target, std::pmr::memory_resource* work)
      : f_(f),
        ir_(ir),
        target_(target),
        work_(work),
        clock_(f, target, work),
        nodes_(work),
        edges_(work),
        lines_(work),
        loads_(work),
        chain_{std::pmr::vector<Edge>(work),
               std::pmr::vector<Last>(first_virtual + f.virtuals.size(), Last{}, work)},
        uses_{std::pmr::vector<Use>(f.virtuals.size(), work)} {
    for (size_t c = 0; c < class_count; ++c) limit_.of[c] = target.classes[c].count;
    --limit_.of[target.class_of(target.convention.stack)];
  }

  std::optional<CodeRows<CodeLine>> take_unmoved() { return std::move(unmoved_); }

  // Calls cut a block into stretches; the jumps at its end are no part of the last one.
  void run(const CodeBlock& b) {
    uint32_t end = b.first + b.count;
    const uint32_t end_of_block = end;
    while (end > b.first && (jumps(f_.code[end - 1]) || f_.code[end - 1].call != none)) --end;
    for (uint32_t from = b.first; from < end;) {
      uint32_t to = from;
      while (to < end && f_.code[to].call == none) ++to;
      // What reads flags at the end of the block has to follow what sets them.
      bool is_last = to == end;
      if (is_last) to = before_flags(from, end, end_of_block);
      if (to > from + 2) stretch(from, to, is_last ? end_of_block : to + 1);
      if (is_last) return;
      from = to + 1;
    }
  }

 private:
  bool jumps(const CodeLine& i) const {
    for (const CodeOperand& o : f_.of(i))
      if (o.kind == OperandKind::Label) return true;
    return i.form == target_.upkeep.return_values;
  }

  // The end of a stretch when the jumps behind it read flags: before the line that sets them.
  uint32_t before_flags(uint32_t from, uint32_t end, uint32_t end_of_block) const {
    bool read = false;
    for (uint32_t k = end; k < end_of_block && !read; ++k) read = reads_flags(target_, f_.code[k]);
    if (!read) return end;
    uint32_t k = end;
    while (k > from && !writes_flags(target_, f_, f_.code[k - 1])) --k;
    return k > from ? k - 1 : from;
  }

  // Lines from `to` to `end` stay where they are.
  void stretch(uint32_t from, uint32_t to, uint32_t end) {
    const std::span<const CodeLine> unmoved(f_.code.data() + from, to - from),
        behind(f_.code.data() + to, end - to);
    const uint32_t was = cycles_of(unmoved, behind);
    if (!pays(clock_.least(), was)) return;
    if (!live_) live_.emplace(f_, target_, work_);  // before anything is moved
    nodes_.clear(), edges_.clear();
    gather(from, to);
    if (nodes_.size() < 3) return;
    depend();
    for (size_t n = nodes_.size(); n-- > 0;) {
      nodes_[n].height = nodes_[n].latency;
      for (uint32_t e = nodes_[n].first_edge; e != none; e = edges_[e].next)
        nodes_[n].height = std::max(nodes_[n].height, nodes_[edges_[e].to].height + edges_[e].slots);
    }
    const Pressure before = live_->before(from);
    const std::pmr::vector<Node> fresh(nodes_, work_);
    Order as_is = place(from, to, before, 0);
    nodes_ = fresh;
    Order moved = place(from, to, before, furthest);
    Pressure allowed = limit_;
    allowed.raise_to(as_is.most);
    if (moved.most.exceeds(allowed)) return;
    lines_.clear();
    for (uint32_t n : moved.nodes)
      for (uint32_t k = 0; k < nodes_[n].count; ++k) lines_.push_back(f_.code[nodes_[n].first + k]);
    if (!pays(cycles_of(lines_, behind), was)) return;
    if (!unmoved_) unmoved_.emplace(f_.code, f_.code.get_allocator());
    std::copy(lines_.begin(), lines_.end(), f_.code.begin() + from);
  }

  // Registers are allocated once more for an order. A processor with a window hides a cycle and more behind
  // what stands before and behind the stretch.
  bool pays(uint32_t is, uint32_t was) const {
    return is + (target_.pace.window > 1 ? std::max(2u, was / 8) : 1u) <= was;
  }

  uint32_t cycles_of(std::span<const CodeLine> stretch, std::span<const CodeLine> behind) {
    clock_.restart();
    for (std::span<const CodeLine> part : {stretch, behind})
      for (const CodeLine& i : part) clock_.line(i);
    return clock_.cycles();
  }

  Register same(Register r) const { return live_->one().root_register(r); }

  // Whether the second line overwrites what the first one copies for it.
  bool copies_for(const CodeLine& copy, const CodeLine& i) const {
    if (copy.form != copy_form || i.form < first_real_form) return false;
    for (const CodeOperand& o : f_.of(i))
      if (o.kind == OperandKind::Register && o.read && o.written && o.reg == f_.of(copy)[0].reg) return true;
    return false;
  }

  // A line that reads flags joins all lines from the one that set them on; one that overwrites an operand
  // joins the copy before it.
  void gather(uint32_t from, uint32_t to) {
    uint32_t setter = none;
    for (uint32_t k = from; k < to; ++k) {
      const CodeLine& i = f_.code[k];
      const uint32_t latency = latency_of(f_, i, target_) * target_.pace.issue,
                     issue = is_virtual_copy(f_, i) ? 0 : 1;
      const uint8_t unit = unit_of(i, target_);
      const uint32_t busy =
          unit == no_unit ? 0
                          : target_.form(i.form).busy * target_.pace.issue / target_.pace.units[unit].count;
      uint32_t join_to = reads_flags(target_, i) && setter != none ? setter : none;
      if (k > from && copies_for(f_.code[k - 1], i)) join_to = std::min(join_to, nodes_.back().first);
      nodes_.push_back(
          {.first = k, .count = 1, .latency = latency, .issue = issue, .unit = unit, .busy = busy});
      while (join_to != none && nodes_.size() > 1 && nodes_.back().first > join_to) {
        Node last = nodes_.back();
        nodes_.pop_back();
        nodes_.back().count += last.count;
        nodes_.back().latency = std::max(nodes_.back().latency, last.latency);
        nodes_.back().issue += last.issue;
        if (last.unit != no_unit) nodes_.back().unit = last.unit, nodes_.back().busy = last.busy;
      }
      if (writes_flags(target_, f_, i)) setter = nodes_.back().first;
    }
  }

  void edge(uint32_t from, uint32_t to, uint32_t slots) {
    if (from == none || from == to) return;
    edges_.push_back({to, nodes_[from].first_edge, slots});
    nodes_[from].first_edge = static_cast<uint32_t>(edges_.size() - 1);
    ++nodes_[to].waits_for;
  }

  // The last node that wrote a register, and those that have read it since.
  struct Last {
    uint32_t writer = none, readers = none, stamp = 0;
  };
  Last& last(Register r) {
    Last& l = chain_.last[same(r)];  // what will be one register keeps its order: moving it would cost a copy
    if (l.stamp != chain_.stamp) l = {none, none, chain_.stamp};
    return l;
  }
  void reads(Register r, uint32_t n) {
    Last& l = last(r);
    if (l.writer != none) edge(l.writer, n, nodes_[l.writer].latency);
    chain_.readers.push_back({n, l.readers, 0});
    l.readers = static_cast<uint32_t>(chain_.readers.size() - 1);
  }
  void writes(Register r, uint32_t n) {
    Last& l = last(r);
    edge(l.writer, n, 1);
    for (uint32_t k = l.readers; k != none; k = chain_.readers[k].next) edge(chain_.readers[k].to, n, 0);
    l.writer = n, l.readers = none;
  }

  void depend() {
    ++chain_.stamp;
    chain_.readers.clear(), loads_.clear();
    uint32_t store = none, ordered = none;
    for (uint32_t n = 0; n < nodes_.size(); ++n)
      for (uint32_t k = nodes_[n].first; k < nodes_[n].first + nodes_[n].count; ++k) {
        const CodeLine& i = f_.code[k];
        each_register(f_, i, [&](Register r, bool read, bool) {
          if (read) reads(r, n);
        });
        for (unsigned r : implicit_reads(target_, f_, i)) reads(r, n);
        each_register(f_, i, [&](Register r, bool, bool written) {
          if (written) writes(r, n);
        });
        for (unsigned r : implicit_writes(target_, f_, i)) writes(r, n);
        bool loads = false, stores = false;
        touches_memory(i, loads, stores);
        if (stores) {
          edge(store, n, 1);
          for (uint32_t l : loads_) edge(l, n, 0);
          loads_.clear();
          store = n;
        } else if (loads) {
          edge(store, n, 1);
          loads_.push_back(n);
        }
        if (keeps_order(i)) edge(ordered, n, 0), ordered = n;
      }
  }

  void touches_memory(const CodeLine& i, bool& loads, bool& stores) const {
    for (const CodeOperand& o : f_.of(i))
      if (o.kind == OperandKind::Memory) loads |= o.read, stores |= o.written;
    if (i.form < first_real_form) return;
    for (const MeaningStep& s : target_.form(i.form).meaning)
      loads |= s.kind == MeaningKind::Load, stores |= s.kind == MeaningKind::Store;
  }
  // Volatile accesses, and what may trap.
  bool keeps_order(const CodeLine& i) const {
    if (i.form < first_real_form) return false;
    for (const MeaningStep& s : target_.form(i.form).meaning)
      if (s.kind == MeaningKind::Trap || (s.kind == MeaningKind::Compute && info(s.op).may_trap()))
        return true;
    if (!i.origin.exists() || !ir_.alive(i.origin)) return false;
    if (info(ir_.op(i.origin)).detail() != Detail::Address) return false;
    const Address& a = ir_.address(i.origin);
    return a.is_volatile || a.guarded;
  }

  // ---- pressure ------------------------------------------------------------------------------------------

  // How often the nodes not yet placed name a register, by root, and whether it holds a value now.
  struct Use {
    uint32_t stamp = 0, left = 0;
    bool live = false, live_behind = false;
  };
  template <class See>
  void each_root(uint32_t n, See see) const {
    for (uint32_t k = nodes_[n].first; k < nodes_[n].first + nodes_[n].count; ++k)
      each_register(f_, f_.code[k], [&](Register r, bool, bool) {
        if (is_virtual(r)) see(live_->one().root(r - first_virtual));
      });
  }
  size_t class_of(uint32_t root) const {
    return std::min<size_t>(f_.virtuals[root].register_class, class_count - 1);
  }
  void count_uses(uint32_t from, uint32_t to) {
    ++uses_.stamp;
    for (uint32_t n = 0; n < nodes_.size(); ++n)
      each_root(n, [&](uint32_t v) {
        Use& u = uses_.of[v];
        if (u.stamp != uses_.stamp)
          u = {uses_.stamp, 0, live_->covers(v, 2 * from), live_->covers(v, 2 * to)};
        ++u.left;
      });
  }
  // What placing a node makes of the pressure: values that begin, before those that end are gone.
  Pressure with(uint32_t n, Pressure p) const {
    each_root(n, [&](uint32_t v) {
      if (!uses_.of[v].live) ++p.of[class_of(v)];  // one named twice counts twice: rather too many
    });
    return p;
  }
  Pressure placed(uint32_t n, Pressure p, Pressure& most) {
    each_root(n, [&](uint32_t v) {
      if (!uses_.of[v].live) uses_.of[v].live = true, ++p.of[class_of(v)];
    });
    most.raise_to(p);
    each_root(n, [&](uint32_t v) {
      if (--uses_.of[v].left == 0 && !uses_.of[v].live_behind) uses_.of[v].live = false, --p.of[class_of(v)];
    });
    return p;
  }

  // Slot by slot: of what is ready, at most `ahead` in front of its turn and within the registers there
  // are, the one with the longest chain of dependents. With nothing ahead: the order as it is.
  Order place(uint32_t from, uint32_t to, Pressure now, uint32_t ahead) {
    Order out(work_);
    std::pmr::vector<uint8_t> is_placed(nodes_.size(), work_);
    count_uses(from, to);
    std::array<uint32_t, most_units> free{};  // by unit: from when on it is
    uint32_t slot = 0, oldest = 0;
    auto ready = [&](uint32_t k) {
      const Node& n = nodes_[k];
      return n.unit == no_unit ? n.ready : std::max(n.ready, free[n.unit]);
    };
    out.most = now;
    while (oldest < nodes_.size()) {
      uint32_t n = oldest;  // it waits for nothing: all before it are placed
      auto before = [&](uint32_t a, uint32_t b) {
        const uint32_t ready_a = ready(a), ready_b = ready(b);
        const bool waits_a = ready_a > slot, waits_b = ready_b > slot;
        if (waits_a != waits_b) return waits_b;
        if (waits_a && ready_a != ready_b) return ready_a < ready_b;
        return nodes_[a].height != nodes_[b].height ? nodes_[a].height > nodes_[b].height : a < b;
      };
      for (uint32_t k = oldest + 1; k < nodes_.size() && k <= oldest + ahead; ++k)
        if (!is_placed[k] && nodes_[k].waits_for == 0 && before(k, n) && !with(k, now).exceeds(limit_)) n = k;
      is_placed[n] = true;
      now = placed(n, now, out.most);
      const uint32_t starts = std::max(slot, ready(n));
      slot = starts + nodes_[n].issue;
      if (nodes_[n].unit != no_unit) free[nodes_[n].unit] = starts + nodes_[n].busy;
      out.nodes.push_back(n);
      for (uint32_t e = nodes_[n].first_edge; e != none; e = edges_[e].next) {
        Node& next = nodes_[edges_[e].to];
        next.ready = std::max(next.ready, starts + edges_[e].slots);
        --next.waits_for;
      }
      while (oldest < is_placed.size() && is_placed[oldest]) ++oldest;
    }
    return out;
  }

  Code& f_;
  const Function& ir_;
  const Target& target_;
  std::pmr::memory_resource* work_;
  std::optional<Liveness> live_;  // made for the first stretch that may change
  Clock clock_;
  Pressure limit_;  // registers of each class
  std::pmr::vector<Node> nodes_;
  std::pmr::vector<Edge> edges_;
  std::pmr::vector<CodeLine> lines_;
  std::pmr::vector<uint32_t> loads_;
  struct Chain {                     // who read and wrote registers last
    std::pmr::vector<Edge> readers;  // lists of readers of one register
    std::pmr::vector<Last> last;     // by register, of coalesced ones the root
    uint32_t stamp = 0;
  } chain_;
  struct Uses {
    std::pmr::vector<Use> of;  // by root
    uint32_t stamp = 0;
  } uses_;
  std::optional<CodeRows<CodeLine>> unmoved_;  // the code as it was, once something has moved
};

}  // namespace

uint32_t estimated_cycles(const Code& code, const CodeBlock& b, const Target& target) {
  Clock clock(code, target, std::pmr::get_default_resource());
  uint32_t sum = 0;
  clock.restart();
  for (uint32_t k = b.first; k < b.first + b.count; ++k) {
    clock.line(code.code[k]);
    if (code.code[k].call == none) continue;
    sum += clock.cycles();
    clock.restart();
  }
  return sum + clock.cycles();
}

std::optional<CodeRows<CodeLine>> schedule(Code& code, const Function& function, const Target& target,
                                           std::pmr::memory_resource* work) {
  BlockScheduler scheduler(code, function, target, work);
  for (const CodeBlock& b : code.blocks) scheduler.run(b);
  return scheduler.take_unmoved();
}

}  // namespace porphyry::machine
