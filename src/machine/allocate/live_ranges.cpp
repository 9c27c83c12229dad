#include "porphyry/machine/live_ranges.h"

#include <algorithm>
#include <bit>
#include <cstring>
#include <utility>

namespace porphyry::machine {
namespace {

// Reads and writes of one register, in order of position.
struct Event {
  uint32_t position;
  uint32_t block;
  uint32_t next;
  bool is_write() const { return position & 1; }
};

// Sorted segments that touch or overlap become one. Gives how many are left.
size_t join_neighbours(std::span<Segment> list) {
  size_t kept = 0;
  for (const Segment& s : list) {
    if (kept && s.from <= list[kept - 1].to)
      list[kept - 1].to = std::max(list[kept - 1].to, s.to);
    else
      list[kept++] = s;
  }
  return kept;
}

class RangeBuilder {
 public:
  RangeBuilder(const Code& f, const Target& target, std::pmr::memory_resource* work, size_t lines)
      : out_(f, target, work),
        memory_(work),
        f_(f),
        target_(target),
        events_(work),
        ends_(f.virtuals.size(), work),
        range_(work),
        named_(work),
        work_(work),
        marks_(f.blocks.size(), work),
        through_(f.blocks.size() / 64 + 1, work) {
    out_.virtuals.resize(f.virtuals.size());
    out_.weights.resize(f.virtuals.size());
    events_.reserve(3 * lines);
  }

  LiveRanges run() {
    gather_events();
    for (uint32_t v = 0; v < f_.virtuals.size(); ++v)
      if (ends_[v].first != none) virtual_range(v);
    return std::move(out_);
  }

  LiveRanges carry_over(const LiveRanges& before, std::span<const uint8_t> gone, const LineMoves& moves) {
    const auto old = static_cast<uint32_t>(before.virtuals.size());
    for (uint32_t v = 0; v < old; ++v)
      if (!gone[v]) move(before.virtuals[v], moves, out_.virtuals[v]);
    std::copy(before.weights.begin(), before.weights.end(), out_.weights.begin());
    for (size_t r = 0; r < before.blocked.size(); ++r) move(before.blocked[r], moves, out_.blocked[r]);
    gather_events_of(old, moves.fresh);
    for (uint32_t v = old; v < f_.virtuals.size(); ++v)
      if (ends_[v].first != none) virtual_range(v);
    return std::move(out_);
  }

 private:
  uint32_t start(uint32_t block) const { return 2 * f_.blocks[block].first; }
  uint32_t end(uint32_t block) const { return 2 * (f_.blocks[block].first + f_.blocks[block].count); }

  void gather_events() {
    for (uint32_t b = 0; b < f_.blocks.size(); ++b) {
      const CodeBlock& block = f_.blocks[b];
      std::fill_n(written_at_, target_.register_count(), start(b));
      for (uint32_t k = block.first; k < block.first + block.count; ++k) {
        const CodeLine& i = f_.code[k];
        RegisterSet reads = implicit_reads(target_, f_, i), writes = implicit_writes(target_, f_, i);
        each_register(f_, i, [&](Register r, bool read, bool written) {
          if (!is_virtual(r)) {
            if (read) reads.add(r);
            if (written) writes.add(r);
            return;
          }
          if (read) event(r, 2 * k, b);
          if (written) event(r, 2 * k + 1, b);
        });
        for (unsigned r : reads) physical_read(r, 2 * k);
        for (unsigned r : writes) physical_write(r, 2 * k + 1);
      }
    }
  }

  void gather_events_of(uint32_t first, std::span<const uint32_t> lines) {
    uint32_t b = 0;
    for (uint32_t k : lines) {
      while (k >= f_.blocks[b].first + f_.blocks[b].count) ++b;
      each_register(f_, f_.code[k], [&](Register r, bool read, bool written) {
        if (!is_virtual(r) || r - first_virtual < first) return;
        if (read) event(r, 2 * k, b);
        if (written) event(r, 2 * k + 1, b);
      });
    }
  }

  // A segment begins at the start of a block or with a write, and ends behind a read, behind a write that
  // nobody reads, or with a block.
  void move(const Segments& from, const LineMoves& moves, Segments& to) {
    if (from.empty()) return;
    range_.clear();
    for (const Segment& s : from) {
      const uint32_t first = s.from / 2, last = (s.to - 1) / 2;
      const bool ends_block = s.to % 2 == 0 && moves.ends[last] != none;
      range_.push_back({s.from % 2 ? 2 * moves.to[first] + 1 : 2 * moves.begins[first],
                        ends_block ? 2 * moves.ends[last] : 2 * moves.to[last] + 2 - s.to % 2});
    }
    to.append(range_, memory_);
  }

  void event(Register r, uint32_t position, uint32_t block) {
    auto row = static_cast<uint32_t>(events_.size());
    Ends& ends = ends_[r - first_virtual];
    // An instruction that names a register as written first still reads it first.
    if (ends.first != none && events_[ends.last].position > position)
      std::swap(events_[ends.last].position, position);
    events_.push_back({position, block, none});
    (ends.first == none ? ends.first : events_[ends.last].next) = row;
    ends.last = row;
    out_.weights[r - first_virtual] += f_.weight(f_.blocks[block]);
  }
  // Physical registers are used within a block only (parameters: from the function's start).
  void physical_read(Register r, uint32_t at) {
    Segments& s = out_.blocked[r];
    uint32_t from = written_at_[r];
    if (!s.empty() && s.back().to > from)
      s.back().to = std::max(s.back().to, at + 1);
    else
      s.append({from, at + 1}, memory_);
  }
  void physical_write(Register r, uint32_t at) {
    written_at_[r] = at;
    out_.blocked[r].append({at, at + 1}, memory_);
  }

  // Events come in order of position, so block by block. A read that no write of its block precedes makes the
  // register live at the block's start, hence at the end of all blocks before it.
  void virtual_range(uint32_t v) {
    ++stamp_;
    work_.clear(), range_.clear();
    for (uint32_t k = ends_[v].first; k != none;) {
      uint32_t block = events_[k].block, open = start(block), last = 0;
      bool is_open = !events_[k].is_write();
      if (is_open) live_in(block);
      for (; k != none && events_[k].block == block; k = events_[k].next) {
        const Event& e = events_[k];
        if (e.is_write()) {
          // A write right after a read of the same instruction goes on with the segment.
          if (is_open && last > open) {
            if (last == e.position) {
              last = e.position + 1;
              continue;
            }
            range_.push_back({open, last});
          }
          open = e.position, is_open = true, last = e.position + 1;
        } else {
          last = e.position + 1;
        }
      }
      marks_[block].named = stamp_, marks_[block].last = static_cast<uint32_t>(range_.size());
      range_.push_back({open, last});
    }
    if (!work_.empty()) {
      while (!work_.empty()) {
        uint32_t block = work_.back();
        work_.pop_back();
        for (uint32_t p : out_.predecessors.of(block)) live_out(p);
      }
      add_through();
      range_.resize(join_neighbours(range_));
    }
    out_.virtuals[v].append(range_, memory_);
  }

  void live_in(uint32_t block) {
    if (marks_[block].entered == stamp_) return;
    marks_[block].entered = stamp_;
    work_.push_back(block);
  }

  void live_out(uint32_t block) {
    if (marks_[block].named == stamp_) {
      range_[marks_[block].last].to = end(block);
      return;
    }
    if (marks_[block].entered == stamp_) return;  // live through, already known
    const uint32_t word = block / 64;
    through_[word] |= uint64_t(1) << block % 64;
    least_ = std::min(least_, word), greatest_ = std::max(greatest_, word);
    live_in(block);
  }

  // Puts the blocks that the register lives through between the segments of those that name it.
  void add_through() {
    if (least_ > greatest_) return;
    named_.swap(range_);
    range_.clear();
    auto next = named_.begin();
    for (uint32_t word = least_; word <= greatest_; ++word)
      for (uint64_t bits = std::exchange(through_[word], 0); bits; bits &= bits - 1) {
        const uint32_t block = 64 * word + static_cast<uint32_t>(std::countr_zero(bits));
        const Segment whole{start(block), end(block)};
        for (; next != named_.end() && next->from < whole.from; ++next) range_.push_back(*next);
        if (!range_.empty() && range_.back().to == whole.from)
          range_.back().to = whole.to;
        else
          range_.push_back(whole);
      }
    range_.insert(range_.end(), next, named_.end());
    least_ = none, greatest_ = 0;
  }

  LiveRanges out_;
  std::pmr::memory_resource* memory_;
  const Code& f_;
  const Target& target_;
  std::pmr::vector<Event> events_;
  struct Ends {
    uint32_t first = none, last = none;
  };
  std::pmr::vector<Ends> ends_;  // of each register's events
  // Of the current register: the segments so far, and the blocks at whose start it was found live.
  std::pmr::vector<Segment> range_, named_;
  std::pmr::vector<uint32_t> work_;
  struct Mark {
    uint32_t entered = 0;  // the stamp of the last register that was live at its start
    uint32_t named = 0;    // of the last one that it names
    uint32_t last = 0;     // row of that one's last segment in it
  };
  std::pmr::vector<Mark> marks_;          // by block
  std::pmr::vector<uint64_t> through_;    // a bit for each block that the register lives through unnamed
  uint32_t least_ = none, greatest_ = 0;  // words with such bits
  uint32_t stamp_ = 0;
  uint32_t written_at_[first_virtual] = {};
};

}  // namespace

Predecessors::Predecessors(const Code& f, std::pmr::memory_resource* work)
    : first_(f.blocks.size() + 1, work), sources_(work) {
  for (const CodeBlock& b : f.blocks)
    for (uint32_t s : f.successors(b)) ++first_[s + 1];
  for (size_t b = 1; b < first_.size(); ++b) first_[b] += first_[b - 1];
  sources_.resize(first_.back());
  std::pmr::vector<uint32_t> next(first_, work);
  for (uint32_t b = 0; b < f.blocks.size(); ++b)
    for (uint32_t s : f.successors(f.blocks[b])) sources_[next[s]++] = b;
}

LiveRanges live_ranges(const Code& f, const Target& target, std::pmr::memory_resource* work) {
  return RangeBuilder(f, target, work, f.code.size()).run();
}

LiveRanges carried_over(const LiveRanges& before, std::span<const uint8_t> gone, const LineMoves& moves,
                        const Code& f, const Target& target, std::pmr::memory_resource* work) {
  return RangeBuilder(f, target, work, moves.fresh.size()).carry_over(before, gone, moves);
}

bool covers(const Segments& s, uint32_t position) {
  auto after = std::upper_bound(s.begin(), s.end(), position,
                                [](uint32_t p, const Segment& segment) { return p < segment.from; });
  return after != s.begin() && position < (after - 1)->to;
}

namespace {

// The first of some segments, from `at` on, that ends behind a position: it is most often close.
const Segment* first_behind(const Segment* at, const Segment* end, uint32_t position) {
  auto before = [](const Segment& s, uint32_t p) { return s.to <= p; };
  for (ptrdiff_t step = 1; at != end && before(*at, position); step *= 2) {
    if (end - at <= step || !before(at[step], position))
      return std::lower_bound(at + 1, std::min(at + step, end), position, before);
    at += step;
  }
  return at;
}

}  // namespace

bool meet(std::span<const Segment> a, std::span<const Segment> b) {
  if (a.empty() || b.empty() || a.back().to <= b.front().from || b.back().to <= a.front().from) return false;
  std::span<const Segment> few = a.size() < b.size() ? a : b, many = a.size() < b.size() ? b : a;
  const Segment *at = many.data(), *end = at + many.size();
  for (const Segment& s : few) {
    at = first_behind(at, end, s.from);
    if (at == end) return false;
    if (at->from < s.to) return true;
  }
  return false;
}

namespace {

// Puts segments that lie close to each other where they belong: what they touch becomes one with them.
void put(Segments& a, std::span<const Segment> close, std::pmr::memory_resource* memory) {
  const Segments& list = a;
  const Segment* first = std::lower_bound(list.begin(), list.end(), close.front().from,
                                          [](const Segment& s, uint32_t p) { return s.to < p; });
  const Segment* behind = std::upper_bound(first, list.end(), close.back().to,
                                           [](uint32_t p, const Segment& s) { return p < s.from; });
  std::pmr::vector<Segment> both(static_cast<size_t>(behind - first) + close.size(), memory);
  std::merge(first, behind, close.begin(), close.end(), both.begin(),
             [](const Segment& x, const Segment& y) { return x.from < y.from; });
  both.resize(join_neighbours(both));
  a.replace(static_cast<size_t>(first - list.begin()), static_cast<size_t>(behind - first), both, memory);
}

}  // namespace

// A few go in one by one: a chain of copies grows at its end, its front or in the middle, and what it has
// elsewhere stays where it is.
Segments merged(Segments a, Segments b, std::pmr::memory_resource* memory) {
  if (a.size() < b.size()) std::swap(a, b);
  constexpr size_t few = 4;
  if (b.size() <= few)
    for (const Segment& s : b) put(a, {&s, 1}, memory);
  else
    put(a, {b.begin(), b.size()}, memory);
  return a;
}

void Segments::replace(size_t first, size_t count, std::span<const Segment> by,
                       std::pmr::memory_resource* memory) {
  size_t behind = size_ - first - count, size = first + by.size() + behind;
  auto more = static_cast<ptrdiff_t>(by.size()) - static_cast<ptrdiff_t>(count);
  bool moves_front = first < behind;
  if (more > (moves_front ? front_room_ : room_ - size_)) {
    size_t spare = size;
    auto* rows =
        static_cast<Segment*>(memory->allocate((size + 2 * spare) * sizeof(Segment), alignof(Segment)));
    std::copy(begin(), begin() + first, rows + spare);
    std::copy(end() - behind, end(), rows + spare + first + by.size());
    rows_ = rows + spare;
    front_room_ = static_cast<uint32_t>(spare);
    room_ = static_cast<uint32_t>(size + spare);
  } else if (moves_front) {
    std::memmove(rows_ - more, rows_, first * sizeof(Segment));
    rows_ -= more;
    front_room_ = static_cast<uint32_t>(front_room_ - more);
    room_ = static_cast<uint32_t>(room_ + more);
  } else {
    std::memmove(end() - behind + more, end() - behind, behind * sizeof(Segment));
  }
  std::copy(by.begin(), by.end(), rows_ + first);
  size_ = static_cast<uint32_t>(size);
}

void Segments::append(std::span<const Segment> more, std::pmr::memory_resource* memory) {
  if (more.empty()) return;
  size_t size = size_ + more.size();
  if (size > room_) {
    size_t room = size_ ? 2 * size : size;
    auto* rows = static_cast<Segment*>(memory->allocate(room * sizeof(Segment), alignof(Segment)));
    std::copy(begin(), end(), rows);
    rows_ = rows;
    room_ = static_cast<uint32_t>(room);
    front_room_ = 0;
  }
  std::copy(more.begin(), more.end(), rows_ + size_);
  size_ = static_cast<uint32_t>(size);
}

}  // namespace porphyry::machine
