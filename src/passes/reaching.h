// What a variable holds at a place, where several blocks give it values: block parameters at the iterated
// dominance frontier of those blocks, only where the variable is still read (R. Cytron et al., "Efficiently
// Computing Static Single Assignment Form", 1991; pruned). One variable at a time; near-linear in the blocks
// that give and read it and those between.
//
//   Reaching reaching(f, dominators);
//   reaching.start(type, otherwise);
//   reaching.give(b, v), reaching.read(use);   // all of them first
//   reaching.place();
//   f.set(slot, reaching.at_start(use));
//   reaching.finish();
#pragma once

#include "porphyry/analyze/dominators.h"

namespace porphyry {

class Reaching {
 public:
  // The dominators must be those of the function's blocks as they are.
  Reaching(Function& f, const Dominators& dominators);

  // Begins with a variable. `otherwise`: what it holds where nothing gave it a value.
  void start(Type type, Value otherwise);
  // What it holds at a block's end.
  void give(Block b, Value v);
  // That it is read at a block's start.
  void read(Block b);
  // Makes the parameters, which get their arguments when it finishes.
  const std::vector<Block>& place();
  Value parameter(Block b) const { return rows_[b].parameter; }
  Value at_start(Block b);
  Value at_end(Block b);
  // `now` gives what stands for a value that was given and is gone.
  template <class Now>
  void finish(Now now) {
    for (Block b : placed_)
      for (Edge e : f_.edges_into(b))
        f_.add_argument(e, dominators_.reachable(f_.from(e)) ? now(at_end(f_.from(e))) : otherwise_);
  }
  void finish() {
    finish([](Value v) { return v; });
  }

 private:
  struct Row {
    Value at_end;  // given, or found
    Value parameter;
    bool gives = false, live = false, known = false;
  };
  Row& row(Block b);

  Function& f_;
  const Dominators& dominators_;
  std::vector<std::vector<Block>> frontiers_;
  Type type_;
  Value otherwise_;
  Table<Block, Row> rows_;
  std::vector<Block> touched_, givers_, live_, placed_;
};

}  // namespace porphyry
