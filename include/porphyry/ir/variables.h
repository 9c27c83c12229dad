// SSA form for a front end's mutable variables, made while the blocks are written: reads become values, and
// blocks get parameters where different values meet.
//
//   Variables variables(module, f);
//   auto sum = variables.add(Type::integer(32), "sum");
//   variables.write(sum, pen.block(), pen.i32(0));
//   …                                               // go to `loop`, write its body, go back
//   Value now = variables.read(sum, loop);
//   variables.finish();                             // when all blocks and edges are there
//
// M. Braun et al., "Simple and Efficient Construction of Static Single Assignment Form", 2013: a read looks
// for the value in its block and then in the blocks before it; where several come together a parameter stands
// for what they bring. Parameters that turn out to bring one value alone go at the end. That is the least
// number of parameters where control is reducible.
#pragma once

#include "porphyry/ir/module.h"

namespace porphyry {

class Variables {
 public:
  using Variable = uint32_t;

  // What a front end may know of its program beforehand: where in the order of its text a variable is
  // written.
  class Writes {
   public:
    virtual ~Writes() = default;
    // Whether it may be written from place `first` up to, not including, `last`.
    virtual bool any(Variable variable, uint32_t first, uint32_t last) const = 0;
  };

  // `writes` must outlive this.
  Variables(Module& module, Function& function, const Writes* writes = nullptr)
      : module_(module), f_(function), writes_(writes) {}
  // Begins anew with the same function, which has no blocks now, in the memory that there is; for who writes
  // one function after the other. `places`: how often, about, a variable will be read or written.
  void start_again(size_t places);

  // A variable that was not written reads zero (null, false). Parameters that stand for it get its name, or
  // that with a number.
  Variable add(Type type, std::string_view name = {});
  // From here on, in this block.
  void write(Variable variable, Block block, Value value);
  // What it holds behind all that was written in the block so far. The block must be sealed, or its edges may
  // still be missing: then a parameter waits for what they bring. Average O(blocks on the way to the write).
  Value read(Variable variable, Block block);
  // `next` goes on where `before` ends: for variables the two are one block. Besides the edge to `next`,
  // edges out of `before` may only lead to blocks that read no variable, such as one that traps.
  void go_on(Block before, Block next) {
    Block first = root(before);
    row(next).root = first;
  }
  // Every way to `join` comes from the end of `before`, and only places from `first` up to `last` of the text
  // are between: a variable that none of them writes is at `join` what it was at the end of `before`, and
  // needs no parameter. To be said before the join is read from.
  void comes_from(Block join, Block before, uint32_t first, uint32_t last) {
    skips_.push_back({root(before), first, last});
    row(join).skip = static_cast<uint32_t>(skips_.size());
  }
  // No edge comes into the block any more but those that are there. As early as possible: a sealed block
  // needs no parameter for what all its edges bring alike.
  void seal(Block block);
  // Seals all blocks and erases superfluous parameters; nothing may be read or written afterwards. Values
  // that were read before may have gone with them: only the function's own operands are kept right.
  // `all_reached`: that the entry leads to every block, which otherwise is looked up. O(parameters made and
  // their arguments).
  void finish(bool all_reached = false);

 private:
  class Eraser;
  struct Row {
    Type type;
    Name name;
    Block block;  // where it was read or written last; what the table has for that block is out of date
    Value value;
  };
  static constexpr uint32_t none = 0xffffffff;
  struct Made {  // a parameter of ours
    Value parameter;
    Block block;
    Variable variable;
    uint32_t before = none;  // the row made before it in the same block, while that is open
  };
  struct BlockRow {
    Block root;         // the first of the blocks that it goes on with; nothing: itself
    Block above;        // of a sealed one with one edge into it: the root of where that comes from
    uint32_t skip = 0;  // of joins: row of skips_, plus one
    uint32_t open = 0;  // of ones that are not sealed: the row of made_ that was made last, plus one
    bool sealed = false;
  };
  BlockRow& row(Block b) {
    if (b.index >= blocks_.size()) blocks_.resize(f_.block_limit());
    return blocks_[b.index];
  }
  Block root(Block b) {
    Block first = row(b).root;
    return first.exists() ? first : b;
  }
  Block only_way_in(Block b);
  Value known(Variable variable, Block block) const;
  void remember(Variable variable, Block block, Value value);
  void put_into_table(Variable variable, Block block, Value value);
  size_t place_of(uint64_t key) const;
  void make_table(size_t size);
  Value make_parameter(Variable variable, Block block);
  Block above(Variable variable, Block block);
  Value where_it_joins(Variable variable, Block join);
  Value find(Variable variable, Block block);
  void fill_all();
  void name_parameters();

  struct Skip {
    Block before;
    uint32_t first, last;
  };

  Module& module_;
  Function& f_;
  const Writes* writes_;
  std::vector<Row> rows_;
  Rows<BlockRow> blocks_;
  std::vector<Skip> skips_;
  std::vector<Made> made_;
  std::vector<uint32_t> to_fill_;  // rows of sealed blocks, whose edges have no argument for them yet
  std::vector<Block> open_;        // blocks that have rows and were not sealed when they got the first
  bool all_sealed_ = false;
  struct Entry {
    uint64_t key = 0;  // block and variable, plus one; 0: free
    Value value;
  };
  std::vector<Entry> table_;  // open addressing, a power of two
  unsigned shift_ = 0;        // of hashes, to a place in it
  size_t entries_ = 0;
};

}  // namespace porphyry
