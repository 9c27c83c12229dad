#include "ranges.h"

#include <algorithm>

namespace porphyry::machine {
namespace {

struct Event {
  uint32_t position;
  uint32_t block;
  bool write;
};

// Sorted segments that touch or overlap become one.
void join_neighbours(Segments& list) {
  size_t kept = 0;
  for (const Segment& s : list) {
    if (kept && s.from <= list[kept - 1].to)
      list[kept - 1].to = std::max(list[kept - 1].to, s.to);
    else
      list[kept++] = s;
  }
  list.resize(kept);
}

class RangeBuilder {
 public:
  RangeBuilder(const Code& f, const Target& target)
      : f_(f), target_(target), events_(f.virtuals.size(), out_.arena.get()), stamps_(f.blocks.size(), 0) {
    out_.virtuals.resize(f.virtuals.size());
    out_.weights.resize(f.virtuals.size());
    out_.blocked.resize(first_virtual);
  }

  LiveRanges run() {
    gather_events();
    predecessors_.resize(f_.blocks.size());
    for (uint32_t b = 0; b < f_.blocks.size(); ++b)
      for (uint32_t s : f_.blocks[b].successors) predecessors_[s].push_back(b);
    for (uint32_t v = 0; v < f_.virtuals.size(); ++v) virtual_range(v);
    return std::move(out_);
  }

 private:
  uint32_t start(uint32_t block) const { return 2 * f_.blocks[block].first; }
  uint32_t end(uint32_t block) const { return 2 * (f_.blocks[block].first + f_.blocks[block].count); }

  void gather_events() {
    for (uint32_t b = 0; b < f_.blocks.size(); ++b) {
      const CodeBlock& block = f_.blocks[b];
      float weight = 1;
      for (unsigned d = 0; d < std::min<unsigned>(block.depth, 6); ++d) weight *= 8;
      std::fill(std::begin(written_at_), std::end(written_at_), start(b));
      for (uint32_t k = block.first; k < block.first + block.count; ++k) {
        const CodeLine& i = f_.code[k];
        each_register(f_, i, [&](Register r, bool read, bool) {
          if (!read) return;
          if (is_virtual(r))
            event(r, {2 * k, b, false}, weight);
          else
            physical_read(r, 2 * k);
        });
        for (RegisterMask m = implicit_reads(target_, f_, i); m; m &= m - 1)
          physical_read(static_cast<Register>(__builtin_ctzll(m)), 2 * k);
        each_register(f_, i, [&](Register r, bool, bool written) {
          if (!written) return;
          if (is_virtual(r))
            event(r, {2 * k + 1, b, true}, weight);
          else
            physical_write(r, 2 * k + 1);
        });
        for (RegisterMask m = implicit_writes(target_, f_, i); m; m &= m - 1)
          physical_write(static_cast<Register>(__builtin_ctzll(m)), 2 * k + 1);
      }
    }
  }

  void event(Register r, Event e, float weight) {
    events_[r - first_virtual].push_back(e);
    out_.weights[r - first_virtual] += weight;
  }
  // Physical registers are used within a block only (parameters: from the function's start).
  void physical_read(Register r, uint32_t at) {
    Segments& s = out_.blocked[r];
    uint32_t from = written_at_[r];
    if (!s.empty() && s.back().to > from)
      s.back().to = std::max(s.back().to, at + 1);
    else
      s.push_back({from, at + 1});
  }
  void physical_write(Register r, uint32_t at) {
    written_at_[r] = at;
    out_.blocked[r].push_back({at, at + 1});
  }

  // Events come in order of position, so block by block. A read that no write of its block precedes makes the
  // register live at the block's start, hence at the end of all blocks before it.
  void virtual_range(uint32_t v) {
    const auto& events = events_[v];
    Segments& out = out_.virtuals[v];
    ++stamp_;
    work_.clear();
    for (size_t k = 0; k < events.size();) {
      uint32_t block = events[k].block, open = start(block), last = 0;
      bool is_open = !events[k].write;
      if (is_open) live_in(block);
      for (; k < events.size() && events[k].block == block; ++k) {
        const Event& e = events[k];
        if (e.write) {
          // A write right after a read of the same instruction goes on with the segment.
          if (is_open && last > open) {
            if (last == e.position) {
              last = e.position + 1;
              continue;
            }
            out.push_back({open, last});
          }
          open = e.position, is_open = true, last = e.position + 1;
        } else {
          last = e.position + 1;
        }
      }
      if (is_open) out.push_back({open, last});
    }
    local_ = out.size();
    while (!work_.empty()) {
      uint32_t block = work_.back();
      work_.pop_back();
      for (uint32_t p : predecessors_[block]) live_out(p, out);
    }
    std::sort(out.begin(), out.end(), [](const Segment& a, const Segment& b) { return a.from < b.from; });
    join_neighbours(out);
  }

  void live_in(uint32_t block) {
    if (stamps_[block] == stamp_) return;
    stamps_[block] = stamp_;
    work_.push_back(block);
  }

  void live_out(uint32_t block, Segments& out) {
    // Its own segments in this block are sorted among the first `local_`.
    auto after = std::upper_bound(out.begin(), out.begin() + static_cast<ptrdiff_t>(local_), end(block) - 1,
                                  [](uint32_t p, const Segment& s) { return p < s.from; });
    bool here = after != out.begin() && (after - 1)->from >= start(block);
    if (!here) {
      if (stamps_[block] == stamp_) return;  // live through, already known
      out.push_back({start(block), end(block)});
      live_in(block);
      return;
    }
    (after - 1)->to = end(block);
  }

  LiveRanges out_;  // first: its arena holds what stands below, too
  const Code& f_;
  const Target& target_;
  std::pmr::vector<std::pmr::vector<Event>> events_;
  std::pmr::vector<std::pmr::vector<uint32_t>> predecessors_{out_.arena.get()};
  std::vector<uint32_t> stamps_, work_;
  uint32_t stamp_ = 0;
  size_t local_ = 0;
  uint32_t written_at_[first_virtual] = {};
};

}  // namespace

LiveRanges live_ranges(const Code& f, const Target& target) { return RangeBuilder(f, target).run(); }

bool meet(const Segments& a, const Segments& b) {
  const Segments &few = a.size() < b.size() ? a : b, &many = a.size() < b.size() ? b : a;
  auto at = many.begin();
  for (const Segment& s : few) {
    at = std::lower_bound(at, many.end(), s.from, [](const Segment& m, uint32_t p) { return m.to <= p; });
    if (at == many.end()) return false;
    if (at->from < s.to) return true;
  }
  return false;
}

// Only what the two have beside each other is merged: a chain of copies grows at its end.
Segments merged(Segments a, Segments b) {
  if (a.empty() || (!b.empty() && b.front().from < a.front().from)) a.swap(b);
  if (b.empty()) return a;
  auto beside = std::lower_bound(a.begin(), a.end(), b.front().from,
                                 [](const Segment& s, uint32_t p) { return s.to < p; });
  Segments tail(static_cast<size_t>(a.end() - beside) + b.size(), a.get_allocator());
  std::merge(beside, a.end(), b.begin(), b.end(), tail.begin(),
             [](const Segment& x, const Segment& y) { return x.from < y.from; });
  join_neighbours(tail);
  a.erase(beside, a.end());
  a.insert(a.end(), tail.begin(), tail.end());
  return a;
}

}  // namespace porphyry::machine
