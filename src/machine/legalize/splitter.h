// Takes values of types that the target lacks apart into values of types that it has.
//
// One walk over a function, definitions before uses: a step says which types go and into what, and writes
// each instruction that touches one of them anew, on the parts. Block parameters and the arguments of edges
// follow by themselves. O(size of what comes out).
#pragma once

#include <string>
#include <vector>

#include "folding_pen.h"

namespace porphyry::machine {

using Parts = std::vector<Value>;

class Splitter {
 public:
  virtual ~Splitter() = default;
  void run();

 protected:
  Splitter(Module& module, Function& function) : f_(function), pen_(module, function) {}

  // The types a value of this type becomes; nothing when the type may stay.
  virtual std::vector<Type> parts_of(Type t) const = 0;
  // The same for a constant: its parts.
  virtual Parts parts_of_constant(Value v) = 0;
  // Writes what stands for `i`, whose operands or results have types that go, and calls `became` for the
  // results. The pen stands before `i`.
  virtual void instruction(Instruction i) = 0;
  // A parameter of the function with a type that goes.
  virtual void function_parameter(Value v) = 0;

  virtual bool goes(Type t) const = 0;  // whether there are any: asked of every value
  bool goes(Value v) const { return goes(f_.type(v)); }
  // Whether the step has work with a type at all; more than those that go, where some instructions go whose
  // types stay.
  virtual bool concerns(Type t) const { return goes(t); }
  virtual bool touched(Instruction i) const;
  // The parts of a value that goes, or the value itself alone, as edges pass them.
  virtual Parts parts(Value v);
  // What a value is now: the results of an instruction, the parameters that stand for one of a block.
  virtual void became(Value v, const Parts& parts);
  void name_parts(Value v, const Parts& parts);
  // A result whose type stays.
  void replaced(Value old, Value v) { pen_.put_in_place(old, v); }

  Function& f_;
  FoldingPen pen_;

 private:
  void parameters(Block b);
  void pass(Block b);
  Name fresh(Name base, size_t k);

  struct Run {
    uint32_t first = 0, count = 0;
  };
  SideTable<Value, Run> runs_;
  std::vector<Value> pool_;
  SideTable<Name, char> taken_;
};

}  // namespace porphyry::machine
