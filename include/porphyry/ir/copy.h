// Copies of instructions: into another function, or beside the originals.
//
//   Copier copier(f, f);
//   copier.stand_in(round, f.constant(t, 0));
//   for (Instruction i : f.instructions(b)) copier.copy(i, made);
//
// Operands, block arguments and targets of a copy are what stands in for those of the original. Within one
// function, what nothing stands in for is itself; into another one, everything but constants needs its copy.
#pragma once

#include <vector>

#include "porphyry/ir/function.h"

namespace porphyry {

class Copier {
 public:
  // Both must outlive this.
  Copier(const Function& from, Function& to) : from_(from), to_(to), within_(&from == &to) {}

  void stand_in(Value original, Value copy) {
    values_.set(original, copy);
    known_values_.push_back(original);
  }
  void stand_in(Block original, Block copy) {
    blocks_.set(original, copy);
    known_blocks_.push_back(original);
  }
  Value value(Value v);
  Block block(Block b) const {
    Block copy = blocks_.get(b);
    return copy.exists() || !within_ ? copy : b;
  }

  // Appends a copy; its results stand in for the original's from now on. O(size of the instruction).
  Instruction copy(Instruction i, Block to) {
    return copy(i, to, from_.op(i), from_.position(i), from_.permits(i), {});
  }
  // As another operation of the same layout; `results` are its types where they are others.
  Instruction copy(Instruction i, Block to, Op op, Position position, uint8_t permits,
                   std::span<const Type> results);
  // Parameters of `original` for its copy, which has none yet.
  void copy_parameters(Block original, Block copy);

  // Nothing stands in for anything any more. O(what did).
  void forget();

 private:
  uint32_t copy_detail(Instruction i);

  const Function& from_;
  Function& to_;
  bool within_;
  SideTable<Value, Value> values_;
  SideTable<Block, Block> blocks_;
  std::vector<Value> known_values_;
  std::vector<Block> known_blocks_;
};

}  // namespace porphyry
