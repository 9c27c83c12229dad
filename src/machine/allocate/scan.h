// One round of register allocation: copies coalesce, then a scan over the live ranges gives each register its
// place, or says which are to be split.
#pragma once

#include "coalesce.h"
#include "porphyry/machine/allocate.h"
#include "split_registers.h"

namespace porphyry::machine {

class Scan {
 public:
  Scan(const Code& f, const Target& target, const Pieces& pieces, std::pmr::memory_resource* work);
  // After what `before` could not place has been split: what it placed has the ranges that it had, and
  // coalesces as it did, so that only the pieces are new.
  Scan(const Scan& before, const LineMoves& moves, std::pmr::memory_resource* work);
  void run();

  // Registers that coalesced are one, known by its root.
  uint32_t root(uint32_t v) const { return one_.root(v); }
  bool any_to_split() const { return !to_split_.empty(); }
  bool to_split(uint32_t v) const { return split_[root(v)]; }
  // Where a root found that there is no room for it any more: a position.
  struct ToSplit {
    uint32_t root, at, by;  // `by`: a root, or none
    SplitReason::Why why;
  };
  std::span<const ToSplit> splits() const { return to_split_; }
  Register place_of(uint32_t v) const { return place_[root(v)]; }
  const LiveRanges& ranges() const { return ranges_; }
  std::span<const SplitReason> split_reasons() const { return split_reasons_; }

 private:
  Scan(const Code& f, const Target& target, const Pieces& pieces, LiveRanges ranges,
       std::pmr::memory_resource* work);
  static constexpr uint32_t none = 0xffffffff;
  uint32_t first(uint32_t v) const { return ranges_.virtuals[v].front().from; }
  uint32_t last(uint32_t v) const { return ranges_.virtuals[v].back().to; }
  void gather_hints();
  bool overlap(uint32_t v, uint32_t other) const {
    return meet(ranges_.virtuals[v], ranges_.virtuals[other]);
  }
  float cost(uint32_t v) const;
  bool is_local(uint32_t v) const;
  uint32_t until_use(uint32_t v, uint32_t at) const;
  Register farthest(uint32_t v, const RegisterSet& among, Register otherwise) const;
  void place(uint32_t v);
  bool is_blocked(uint32_t v, unsigned r);
  // The first that is free; what is free but wished for by ranges to come is put into `spared` where that is
  // given.
  bool try_registers(uint32_t v, const RegisterSet& among, RegisterSet* spared = nullptr);
  bool is_wished_for(uint32_t v, unsigned r);
  void make_room(uint32_t v, const RegisterSet& among);
  RegisterSet wishes(uint32_t v) const;
  void put(uint32_t v, unsigned r);
  void mark_for_splitting(uint32_t v, uint32_t at, uint32_t by, SplitReason::Why why);
  void tell_members();

  const Code& f_;
  std::pmr::memory_resource* work_;
  const Target& target_;
  const Pieces& pieces_;
  LiveRanges ranges_;
  Coalesced one_;
  std::pmr::vector<RegisterSet> hints_;  // by root: physical registers it is copied from or to
  struct Friends {
    uint32_t of[2] = {none, none};
  };
  std::pmr::vector<Friends> friends_;  // by root: others it is copied from or to
  std::pmr::vector<Register> place_;
  std::pmr::vector<uint8_t> split_;  // by root; bytes, as a vector of bool would take `work` for a value
  // Who has a register, and where its range goes on, so that most questions need not look into the range.
  struct Holder {
    uint32_t root, end;         // a root, and where its range ends
    uint32_t passed = 0;        // segments that ended
    uint32_t from = 0, to = 0;  // of the first one that did not
    // Goes on to the first segment that ends behind `position`; there must be one.
    void pass(const Segments& segments, uint32_t position);
  };
  // A physical register.
  struct Physical {
    explicit Physical(std::pmr::memory_resource* work) : holders(work), wishers(work) {}
    std::pmr::vector<Holder> holders;    // who has it from here on
    std::pmr::vector<uint32_t> wishers;  // roots copied from or to it that may have it, by where they begin
    // Rows of wishers, and of segments in which the code uses it, that lie behind.
    uint32_t passed_wishers = 0, passed_blocked = 0;
  };
  std::pmr::vector<Physical> physical_;
  std::pmr::vector<ToSplit> to_split_;
  std::pmr::vector<SplitReason> split_reasons_;
  RegisterSet used_;
  std::pmr::vector<uint8_t> longer_;  // by root, in code that counts bytes: rather one with a long name
};

}  // namespace porphyry::machine
