#include "porphyry/machine/schedule.h"

#include <algorithm>

namespace porphyry::machine {
namespace {

constexpr uint32_t none = 0xffffffff;
constexpr uint32_t furthest = 12;  // instructions that one may overtake

// Lines that stay together, in their order.
struct Node {
  uint32_t first, count;  // lines
  uint32_t latency = 1;
  uint32_t height = 0;     // of the longest way to the end, in cycles
  uint32_t waits_for = 0;  // nodes before it that are not yet placed
  uint32_t ready = 0;      // the cycle at which its operands are there
  uint32_t first_edge = none;
};

struct Edge {
  uint32_t to, next, cycles;
};

class BlockScheduler {
 public:
  BlockScheduler(Code& f, const Function& ir, const Target& target, std::pmr::memory_resource* work)
      : f_(f),
        ir_(ir),
        target_(target),
        nodes_(work),
        edges_(work),
        lines_(work),
        loads_(work),
        readers_(work),
        last_(first_virtual + f.virtuals.size(), {}, work) {}

  // Calls cut a block into stretches; the jumps at its end are no part of the last one.
  void run(const CodeBlock& b) {
    uint32_t end = b.first + b.count;
    while (end > b.first && (jumps(f_.code[end - 1]) || f_.code[end - 1].call != 0xffffffff)) --end;
    for (uint32_t from = b.first; from < end;) {
      uint32_t to = from;
      while (to < end && f_.code[to].call == 0xffffffff) ++to;
      // What reads flags at the end of the block has to follow what sets them.
      bool is_last = to == end;
      if (is_last) to = before_flags(from, end, b.first + b.count);
      if (to > from + 2) stretch(from, to);
      if (is_last) return;
      from = to + 1;
    }
  }

 private:
  bool jumps(const CodeLine& i) const {
    for (const CodeOperand& o : f_.of(i))
      if (o.kind == OperandKind::Label) return true;
    return i.form == target_.upkeep.give_back;
  }
  bool reads_flags(const CodeLine& i) const {
    return implicit_reads(target_, f_, i) >> target_.flags_register & 1;
  }
  bool writes_flags(const CodeLine& i) const {
    return implicit_writes(target_, f_, i) >> target_.flags_register & 1;
  }

  // The end of a stretch when the jumps behind it read flags: before the line that sets them.
  uint32_t before_flags(uint32_t from, uint32_t end, uint32_t end_of_block) const {
    bool read = false;
    for (uint32_t k = end; k < end_of_block && !read; ++k) read = reads_flags(f_.code[k]);
    if (!read) return end;
    uint32_t k = end;
    while (k > from && !writes_flags(f_.code[k - 1])) --k;
    return k > from ? k - 1 : from;
  }

  void stretch(uint32_t from, uint32_t to) {
    nodes_.clear(), edges_.clear();
    gather(from, to);
    if (nodes_.size() < 3) return;
    depend();
    for (size_t n = nodes_.size(); n-- > 0;) {
      nodes_[n].height = nodes_[n].latency;
      for (uint32_t e = nodes_[n].first_edge; e != none; e = edges_[e].next)
        nodes_[n].height = std::max(nodes_[n].height, nodes_[edges_[e].to].height + edges_[e].cycles);
    }
    place(from);
  }

  // A line that reads flags joins all lines from the one that set them on.
  void gather(uint32_t from, uint32_t to) {
    uint32_t setter = none;
    for (uint32_t k = from; k < to; ++k) {
      const CodeLine& i = f_.code[k];
      uint32_t latency = i.form < first_real_form ? 1 : target_.form(i.form).latency;
      bool joins = reads_flags(i) && setter != none;
      nodes_.push_back({k, 1, latency});
      while (joins && nodes_.size() > 1 && nodes_.back().first > setter) {
        Node last = nodes_.back();
        nodes_.pop_back();
        nodes_.back().count += last.count;
        nodes_.back().latency = std::max(nodes_.back().latency, last.latency);
      }
      if (writes_flags(i)) setter = nodes_.back().first;
    }
  }

  void edge(uint32_t from, uint32_t to, uint32_t cycles) {
    if (from == none || from == to) return;
    edges_.push_back({to, nodes_[from].first_edge, cycles});
    nodes_[from].first_edge = static_cast<uint32_t>(edges_.size() - 1);
    ++nodes_[to].waits_for;
  }

  // The last node that wrote a register, and those that have read it since.
  struct Last {
    uint32_t writer = none, readers = none, stamp = 0;
  };
  Last& last(Register r) {
    Last& l = last_[r];
    if (l.stamp != stamp_) l = {none, none, stamp_};
    return l;
  }
  void reads(Register r, uint32_t n) {
    Last& l = last(r);
    if (l.writer != none) edge(l.writer, n, nodes_[l.writer].latency);
    readers_.push_back({n, l.readers, 0});
    l.readers = static_cast<uint32_t>(readers_.size() - 1);
  }
  void writes(Register r, uint32_t n) {
    Last& l = last(r);
    edge(l.writer, n, 1);
    for (uint32_t k = l.readers; k != none; k = readers_[k].next) edge(readers_[k].to, n, 0);
    l.writer = n, l.readers = none;
  }

  void depend() {
    ++stamp_;
    readers_.clear(), loads_.clear();
    uint32_t store = none, ordered = none;
    RegisterMask flags = mask_of_register(target_.flags_register);
    for (uint32_t n = 0; n < nodes_.size(); ++n)
      for (uint32_t k = nodes_[n].first; k < nodes_[n].first + nodes_[n].count; ++k) {
        const CodeLine& i = f_.code[k];
        each_register(f_, i, [&](Register r, bool read, bool) {
          if (read) reads(r, n);
        });
        for (RegisterMask m = implicit_reads(target_, f_, i) & ~flags; m; m &= m - 1)
          reads(static_cast<Register>(__builtin_ctzll(m)), n);
        each_register(f_, i, [&](Register r, bool, bool written) {
          if (written) writes(r, n);
        });
        for (RegisterMask m = implicit_writes(target_, f_, i) & ~flags; m; m &= m - 1)
          writes(static_cast<Register>(__builtin_ctzll(m)), n);
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
    Layout layout = info(ir_.op(i.origin)).layout;
    return (layout == Layout::Load || layout == Layout::Store) && ir_.address(i.origin).is_volatile;
  }

  // Cycle by cycle: of what is ready and not too far ahead, the one that most hangs on.
  void place(uint32_t from) {
    lines_.clear();
    std::pmr::vector<bool> placed(nodes_.size(), false, nodes_.get_allocator());
    uint32_t cycle = 0, oldest = 0;
    while (oldest < nodes_.size()) {
      uint32_t n = oldest;  // it waits for nothing: all before it are placed
      auto before = [&](uint32_t a, uint32_t b) {
        bool waits_a = nodes_[a].ready > cycle, waits_b = nodes_[b].ready > cycle;
        if (waits_a != waits_b) return waits_b;
        if (waits_a && nodes_[a].ready != nodes_[b].ready) return nodes_[a].ready < nodes_[b].ready;
        return nodes_[a].height != nodes_[b].height ? nodes_[a].height > nodes_[b].height : a < b;
      };
      for (uint32_t k = oldest + 1; k < nodes_.size() && k <= oldest + furthest; ++k)
        if (!placed[k] && nodes_[k].waits_for == 0 && before(k, n)) n = k;
      placed[n] = true;
      cycle = std::max(cycle, nodes_[n].ready) + 1;
      for (uint32_t k = 0; k < nodes_[n].count; ++k) lines_.push_back(f_.code[nodes_[n].first + k]);
      for (uint32_t e = nodes_[n].first_edge; e != none; e = edges_[e].next) {
        Node& to = nodes_[edges_[e].to];
        to.ready = std::max(to.ready, cycle - 1 + edges_[e].cycles);
        --to.waits_for;
      }
      while (oldest < placed.size() && placed[oldest]) ++oldest;
    }
    std::copy(lines_.begin(), lines_.end(), f_.code.begin() + from);
  }

  Code& f_;
  const Function& ir_;
  const Target& target_;
  std::pmr::vector<Node> nodes_;
  std::pmr::vector<Edge> edges_;
  std::pmr::vector<CodeLine> lines_;
  std::pmr::vector<uint32_t> loads_;
  std::pmr::vector<Edge> readers_;  // lists of readers of one register
  std::pmr::vector<Last> last_;     // by register
  uint32_t stamp_ = 0;
};

}  // namespace

void schedule(Code& code, const Function& function, const Target& target, std::pmr::memory_resource* work) {
  BlockScheduler scheduler(code, function, target, work);
  for (const CodeBlock& b : code.blocks) scheduler.run(b);
}

}  // namespace porphyry::machine
