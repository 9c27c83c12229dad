// Which write a load may see: memory as one variable in SSA form, with a version after each instruction that
// may write and one where different versions meet. A query walks up the versions and passes over writes that
// alias answers exclude.
#pragma once

#include "porphyry/analyze/alias.h"
#include "porphyry/analyze/dominators.h"

namespace porphyry {

// A version of memory: as the function found it, behind an instruction, or where a block's ways in meet.
struct MemoryVersion {
  uint32_t code =
      0;  // 0: the function's start; else twice the instruction or block, plus 2, plus 1 for a block
  static MemoryVersion behind(Instruction i) { return {2 * i.index + 2}; }
  static MemoryVersion at(Block b) { return {2 * b.index + 3}; }
  bool is_start() const { return code == 0; }
  bool is_join() const { return code & 1; }
  Instruction writer() const { return code && !is_join() ? Instruction((code - 2) / 2) : Instruction(); }
  Block join() const { return is_join() ? Block((code - 3) / 2) : Block(); }
  bool operator==(const MemoryVersion&) const = default;
};

class MemoryFlow {
 public:
  // All must outlive this. Stays right while nothing that writes memory is added or moved. O(instructions +
  // edges).
  MemoryFlow(const Function& f, const Dominators& dominators, const Alias& alias, const CallEffects& effects);

  // Before an instruction that reads or writes memory, or ends a block.
  MemoryVersion before(Instruction i) const { return before_.get(i); }
  // The last version before the instruction that may differ in what the access reads; where ways meet that
  // differ, the meeting. Gives up, with the nearest version, after `budget` steps.
  MemoryVersion seen_by(Instruction i, const MemoryAccess& a, unsigned budget = 64) const;
  // The same for an access that would stand at a block's start, or in front of its last instruction.
  MemoryVersion seen_at(Block start, const MemoryAccess& a, unsigned budget = 64) const;
  MemoryVersion seen_at_end(Block b, const MemoryAccess& a, unsigned budget = 64) const;
  // Tells of a load that was added: what it reads is as it was at this version.
  void add_read(Instruction load, MemoryVersion seen) { before_.set(load, seen); }

 private:
  MemoryVersion pass(MemoryVersion from, const MemoryAccess& a, unsigned& budget) const;
  bool crossed(Block join, MemoryVersion above, const MemoryAccess& a, unsigned& budget) const;

  const Function& f_;
  const Dominators& dominators_;
  const Alias& alias_;
  const CallEffects& effects_;
  SideTable<Instruction, MemoryVersion> before_;
  Table<Block, MemoryVersion> start_, end_;
};

}  // namespace porphyry
