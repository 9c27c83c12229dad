// What one round of splitting knows of the registers that are split, from one look at the code: the lines
// that name them, the innermost loop around each, and where runs of uses are parted. Positions and lines are
// those of the code as the scan saw it, also while it is written again.
#pragma once

#include "scan.h"

namespace porphyry::machine {

class SplitUses {
 public:
  // O(code).
  SplitUses(const Code& f, const Scan& scan, std::pmr::memory_resource* work);

  struct Line {
    uint32_t line, block;
  };
  // In order; all other lines stay as they are.
  std::span<const Line> lines() const { return lines_; }

  bool splits(Register r) const {
    return is_virtual(r) && r - first_virtual < gone_.size() && gone_[r - first_virtual];
  }
  // Calls `visit(line, register, read, written)` wherever one is named.
  template <class Visit>
  void each(Visit visit) const {
    for (const Line& n : lines_)
      each_register(f_, f_.code[n.line], [&](Register r, bool read, bool written) {
        if (splits(r)) visit(n, r, read, written);
      });
  }

  // The innermost loop around everything that names a root: a piece for it would be the register again.
  uint32_t home(uint32_t root) const { return homes_[root]; }
  // Whether the program uses a root before and behind the place at which the scan gave it up: runs are parted
  // there.
  bool is_parted(uint32_t root) const { return cuts_[root].before && cuts_[root].behind; }
  // Whether that place lies between two lines.
  bool is_between(uint32_t root, uint32_t last, uint32_t now) const {
    return is_parted(root) && 2 * last <= cuts_[root].at && 2 * now > cuts_[root].at;
  }
  bool is_live_into(uint32_t root, uint32_t block) const {
    return covers(scan_.ranges().virtuals[root], 2 * starts_[block]);
  }

 private:
  void find_lines();
  void find_cuts();
  void find_homes();

  const Code& f_;
  const Scan& scan_;
  std::pmr::vector<uint8_t> gone_;     // by register of the scan
  std::pmr::vector<uint32_t> starts_;  // by block: its first instruction, as the scan numbers them
  std::pmr::vector<Line> lines_;
  struct Cut {
    uint32_t at = 0;  // a position
    bool before = false, behind = false;
  };
  std::pmr::vector<Cut> cuts_;        // by root
  std::pmr::vector<uint32_t> homes_;  // by root
};

inline uint32_t depth_of(const Code& f, uint32_t loop) { return loop == no_loop ? 0 : f.loops[loop].depth; }

}  // namespace porphyry::machine
