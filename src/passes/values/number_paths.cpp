// What some ways into a block have computed is not computed again in it: the block takes a parameter, which
// brings the known value along those ways, and along at most one other the value of the operation, which
// moves to that way's end. An operation is followed along a way by putting arguments for parameters. That
// pays where the operation costs more than the parameter, and never puts work on a way that did not do it:
// the way leads nowhere else, and nothing in the block stands before a load or an operation that may trap.
//
// E. Morel, C. Renvoise, "Global Optimization by Suppression of Partial Redundancies", 1979, in the form for
// values of F. Chow et al., "A New Algorithm for Partial Redundancy Elimination based on SSA Form", 1997,
// limited to one block at a time. O(instructions of such blocks * ways, of which there are at most four).
#include "number_paths.h"

#include <fmt/format.h>

#include "../cost.h"
#include "porphyry/ir/edit.h"
#include "porphyry/print/print.h"

namespace porphyry {
namespace {

constexpr size_t most_ways = 4;
constexpr unsigned most_parameters = 4;  // new ones of one block: each takes a register across the ways

class Paths {
 public:
  Paths(FunctionContext& c, const Dominators& dominators, const Alias& alias, MemoryFlow* flow,
        KnownOperations& known)
      : c_(c), f_(c.function), dominators_(dominators), alias_(alias), flow_(flow), known_(known) {}

  void run() {
    for (Block b : dominators_.order())
      if (find_ways(b)) block(b);
  }

 private:
  struct Way {
    Edge edge;
    bool comes_back = false;  // from a loop that the block heads
    Value value;              // known at its end
    std::vector<Value> operands;
    MemoryVersion memory;
    bool is_own = false;  // the operation itself, from the round before
  };

  bool find_ways(Block b) {
    ways_.clear();
    for (Edge e : f_.edges_into(b)) {
      if (!dominators_.reachable(f_.from(e))) continue;
      if (ways_.size() == most_ways) return false;
      ways_.push_back({e, dominators_.dominates(b, f_.from(e)), {}, {}, {}, false});
    }
    return ways_.size() > 1;
  }

  void block(Block b) {
    bool effects = false;  // before the instruction
    unsigned added = 0;
    for (Instruction i = f_.first(b), next; i.exists() && added < most_parameters; i = next) {
      next = f_.next(i);
      if (worth(i)) added += one(i, effects);
      if (f_.alive(i)) effects |= f_.has_effect(i);
    }
  }
  bool worth(Instruction i) const {
    if (!computes(f_.op(i)) || f_.result_count(i) != 1 || f_.op(i) == Op::Splat || !costs_much(f_, i))
      return false;
    return f_.op(i) != Op::Load || (flow_ && !f_.address(i).is_volatile && !f_.address(i).masked);
  }

  // Whether the operation went.
  bool one(Instruction i, bool effects) {
    Way* missing = nullptr;
    bool any = false;
    if (f_.op(i) == Op::Load) {
      Instruction writer = flow_->seen_by(i, alias_.access(i)).writer();
      if (writer.exists() && f_.block(writer) == f_.block(i)) return false;
    }
    for (Way& w : ways_) {
      if (!follow(i, w)) return false;
      any |= w.value.exists() || w.is_own;
      if (w.value.exists() || w.is_own) continue;
      if (missing || w.comes_back || f_.edges(f_.from(w.edge)).size() != 1) return false;
      missing = &w;
    }
    if (!any) return false;
    if (missing && effects && (f_.has_effect(i) || f_.op(i) == Op::Load)) return false;
    if (missing) compute(i, *missing);
    replace(i, missing != nullptr);
    return true;
  }

  // What the operation takes along a way, and the value when it is known there. False when it takes what only
  // its own block computes.
  bool follow(Instruction i, Way& w) {
    Block b = f_.block(i), from = f_.from(w.edge);
    w.operands.clear(), w.value = {}, w.memory = {}, w.is_own = false;
    for (Value v : f_.operands(i)) {
      bool here = !f_.is_constant(v) && f_.kind(v) != ValueKind::Parameter && f_.defining_block(v) == b;
      if (here && f_.kind(v) != ValueKind::BlockParameter) return false;
      w.operands.push_back(here ? f_.argument(w.edge, f_.result_index(v)) : v);
    }
    MemoryAccess access;
    if (f_.op(i) == Op::Load) {
      access = alias_.access(i, w.operands);
      w.memory = flow_->seen_at_end(from, access);
    }
    Instruction known = known_.find(i, w.operands, w.memory, [&](Instruction k) {
      return (f_.permits(k) & ~f_.permits(i)) == 0 && at_end(k, from);
    });
    w.is_own = known == i;
    if (known.exists() && !w.is_own) w.value = f_.result(known);
    Instruction writer = w.memory.writer();
    // A store of all the bytes, as this type.
    if (!known.exists() && writer.exists() && f_.op(writer) == Op::Store && at_end(writer, from) &&
        f_.type(f_.operand(writer, 0)) == f_.type(f_.result(i)) && !f_.address(writer).is_volatile &&
        !f_.address(writer).masked && alias_.of(alias_.access(writer), access).relation == Overlap::Same)
      w.value = f_.operand(writer, 0);
    return true;
  }
  bool at_end(Instruction i, Block b) const { return dominators_.dominates(f_.block(i), b); }

  void compute(Instruction i, Way& w) {
    Type type = f_.type(f_.result(i));
    Instruction made = f_.insert_before(f_.terminator(f_.from(w.edge)), {.op = f_.op(i),
                                                                         .operands = w.operands,
                                                                         .results = {&type, 1},
                                                                         .detail = f_.detail(i),
                                                                         .position = f_.position(i),
                                                                         .promises = f_.promises(i),
                                                                         .permits = f_.permits(i)});
    known_.add(made, w.memory);
    if (f_.op(i) == Op::Load) flow_->add_read(made, w.memory);
    w.value = f_.result(made);
  }

  void replace(Instruction i, bool moved) {
    Value old = f_.result(i), by = ways_[0].value;
    size_t own = 0;
    for (const Way& w : ways_) {
      own += w.is_own;
      if (!by.exists()) by = w.value;
    }
    for (const Way& w : ways_)
      if (!w.is_own && w.value != by) by = {};
    // One value along all ways is there in the block as well.
    bool is_parameter = !by.exists() || !available(by, f_.block(i));
    std::string operation, name;
    if (c_.wants_notes()) operation = write_text(c_.module, f_, i), name = c_.name(old);
    Position position = f_.position(i);
    if (is_parameter) {
      by = f_.add_parameter(f_.block(i), f_.type(old));
      for (const Way& w : ways_) f_.add_argument(w.edge, w.is_own ? by : w.value);
      for (Edge e : f_.edges_into(f_.block(i)))
        if (!dominators_.reachable(f_.from(e))) f_.add_argument(e, f_.constant(f_.type(old), 0));
    }
    hand_name_over(f_, old, by);
    f_.replace_uses(old, by);
    f_.erase(i);
    if (c_.wants_notes())
      c_.done(position, name, "became " + c_.name(by),
              moved ? "some ways computed it before; the other one does now" : "all ways computed it before",
              {{"operation", operation},
               {"ways", std::to_string(ways_.size())},
               {"from the round before", std::to_string(own)}});
  }
  bool available(Value v, Block b) const {
    return f_.is_constant(v) || f_.kind(v) == ValueKind::Parameter ||
           dominators_.dominates(f_.defining_block(v), b);
  }

  FunctionContext& c_;
  Function& f_;
  const Dominators& dominators_;
  const Alias& alias_;
  MemoryFlow* flow_;
  KnownOperations& known_;
  std::vector<Way> ways_;
};

}  // namespace

void number_on_some_paths(FunctionContext& c, const Dominators& dominators, const Alias& alias,
                          MemoryFlow* flow, KnownOperations& known) {
  Paths(c, dominators, alias, flow, known).run();
}

}  // namespace porphyry
