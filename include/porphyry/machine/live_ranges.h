// Live ranges: where each register's value is wanted, as ordered segments of positions.
//
// Instruction k reads at position 2k and writes at 2k + 1. A segment [from, to) covers the positions at which
// the register may not be given away.
#pragma once

#include "porphyry/machine/code.h"

namespace porphyry::machine {

struct Segment {
  uint32_t from, to;
};

// Segments in order, in memory that lasts as long as whoever gave it; one that outgrows its place leaves it.
class Segments {
 public:
  size_t size() const { return size_; }
  bool empty() const { return size_ == 0; }
  Segment* begin() { return rows_; }
  Segment* end() { return rows_ + size_; }
  const Segment* begin() const { return rows_; }
  const Segment* end() const { return rows_ + size_; }
  Segment& back() { return rows_[size_ - 1]; }
  const Segment& front() const { return rows_[0]; }
  const Segment& back() const { return rows_[size_ - 1]; }
  const Segment& operator[](size_t k) const { return rows_[k]; }
  void clear() { size_ = 0; }
  void cut_to(size_t size) { size_ = static_cast<uint32_t>(size); }
  // Puts others in the place of `count` from `first` on. Moves what stands in front or behind, whichever is
  // less.
  void replace(size_t first, size_t count, std::span<const Segment> by, std::pmr::memory_resource* memory);
  void append(std::span<const Segment> more, std::pmr::memory_resource* memory);
  void append(Segment one, std::pmr::memory_resource* memory) {
    if (size_ == room_) return append(std::span(&one, 1), memory);
    rows_[size_++] = one;
  }

 private:
  Segment* rows_ = nullptr;
  uint32_t size_ = 0, room_ = 0;  // the room from rows_ on
  uint32_t front_room_ = 0;       // and in front of it
};

// The blocks from which control comes to one.
class Predecessors {
 public:
  Predecessors(const Code& f, std::pmr::memory_resource* work);
  std::span<const uint32_t> of(uint32_t block) const {
    return {sources_.data() + first_[block], first_[block + 1] - first_[block]};
  }

 private:
  std::pmr::vector<uint32_t> first_, sources_;  // by block: where its sources begin; those of all blocks
};

struct LiveRanges {
  LiveRanges(const Code& f, const Target& target, std::pmr::memory_resource* work)
      : virtuals(work), blocked(target.register_count(), work), weights(work), predecessors(f, work) {}
  std::pmr::vector<Segments> virtuals;  // by register number minus first_virtual
  std::pmr::vector<Segments> blocked;   // by physical register: where the code itself uses it; not of flags
  std::pmr::vector<float> weights;      // uses and writes, see Code::weight
  Predecessors predecessors;
};

// Near-linear in the code and the segments that come out. All of it lies in `work`.
LiveRanges live_ranges(const Code& f, const Target& target, std::pmr::memory_resource* work);

// Where lines went when code was written again with lines added.
struct LineMoves {
  explicit LineMoves(std::pmr::memory_resource* work) : to(work), begins(work), ends(work), fresh(work) {}
  std::pmr::vector<uint32_t> to;      // by old line: the line that it, or what stands for it, is now
  std::pmr::vector<uint32_t> begins;  // by old line: where the block begins whose first it was, or none
  std::pmr::vector<uint32_t> ends;    // by old line: where the block ends whose last it was, or none
  std::pmr::vector<uint32_t> fresh;   // lines, in order, that name a register that was not there before
};
// The ranges of code that was written again, from those of the code as it was: registers that are `gone`, by
// number minus first_virtual, are named no more, and the others by the same instructions as before. Linear in
// the segments and near-linear in the lines with new registers: ranges that did not change are not looked for
// again.
LiveRanges carried_over(const LiveRanges& before, std::span<const uint8_t> gone, const LineMoves& moves,
                        const Code& f, const Target& target, std::pmr::memory_resource* work);

bool covers(const Segments& s, uint32_t position);
// Whether some position lies in both. O(the shorter * log of how far apart in the longer its segments lie).
bool meet(std::span<const Segment> a, std::span<const Segment> b);
// Takes the place of the two. O(log + what of the longer stands between the ends of the other), and moves at
// most half of the longer a few times.
Segments merged(Segments a, Segments b, std::pmr::memory_resource* memory);

}  // namespace porphyry::machine
