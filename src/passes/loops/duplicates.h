// Copies of blocks beside the originals, whose values are put together again where both lead to.
//
//   Duplicates duplicates(f);
//   duplicates.copy(loop.blocks, f.previous(head));
//   lead_to(f, entry, duplicates.block(head));
//   duplicates.rejoin();
#pragma once

#include <span>

#include "porphyry/analyze/rounds.h"
#include "porphyry/ir/copy.h"
#include "porphyry/optimize/pass.h"

namespace porphyry {

class Duplicates {
 public:
  explicit Duplicates(Function& f) : f_(f), copier_(f, f) {}

  // Copies blocks, which stand in reverse postorder, behind `place` in the layout. Edges among them lead to
  // copies, others where they led; what leads into the blocks still leads to the originals. O(size).
  void copy(std::span<const Block> blocks, Block place);
  // What the last copy has for one of the blocks, their values and edges; others are themselves.
  Block block(Block original) const { return copier_.block(original); }
  Value value(Value original) { return copier_.value(original); }
  Edge edge(Edge original) const;

  // Copies of a loop, so many rounds one behind the other in front of it. The last way back still leads to
  // its own head.
  struct Row {
    Block head;               // of the first one
    Edge back;                // of the last one; nothing where there are none
    std::vector<Edge> stays;  // what `decides` is in each
  };
  Row copy_rounds(const LoopShape& loop, Edge decides, uint64_t count);

  // Once all edges lead where they are to: uses outside of the blocks see what reaches them. Dominators once,
  // and near-linear in the blocks between a value and its uses.
  void rejoin();

 private:
  void rejoin(std::span<const struct Duplicated> copies, class Reaching& reaching);

  Function& f_;
  Copier copier_;
  SideTable<Block, uint32_t> group_;  // of blocks that were copied together
  uint32_t groups_ = 0;
  std::vector<struct Duplicated> known_;
};

// How much of a function passes may have twice that stand a loop beside its copy.
class LoopCopies {
 public:
  // Whether the loop may be copied; a note says why not, and what stays as it is.
  bool take(FunctionContext& c, const LoopShape& loop, Instruction branch, const char* what_stays);

 private:
  size_t instructions_ = 0;  // copied so far
};

struct Duplicated {
  Value value, copy;
  Block block, copied;
};

}  // namespace porphyry
