#include "porphyry/ir/splice.h"

#include <map>

#include "porphyry/ir/copy.h"
#include "porphyry/ir/edit.h"
#include "porphyry/ir/order.h"
#include "porphyry/ir/pen.h"

namespace porphyry {
namespace {

class Splicer {
 public:
  Splicer(Module& module, Symbol caller, Instruction call, const Function& body)
      : module_(module),
        to_(module.function(caller)),
        from_(body),
        facts_(module[to_.symbol(call)].facts),
        callee_(module[to_.symbol(call)].name),
        pen_(module, to_),
        call_(call),
        at_(to_.position(call)),
        copier_(from_, to_) {}

  void run() {
    Block home = to_.block(call_);
    bool leaves = info(to_.op(call_)).ends_block();
    if (!leaves) cut_behind(home);
    Blocks order = reverse_postorder(from_);
    Block last = home;
    for (Block b : order) {
      copier_.stand_in(b, last = to_.add_block_after(last));
      if (b != from_.entry()) copier_.copy_parameters(b, last);
    }
    take_arguments();
    std::vector<Value> results;
    for (Value v : to_.results(call_)) results.push_back(v);
    to_.erase(call_);
    pen_.at_end(home).from(at_);
    pen_.go(copier_.block(from_.entry()));
    for (Block b : order)
      for (Instruction i : from_.instructions(b)) copy(i, copier_.block(b));
  }

 private:
  // Results are what comes to the block behind the call.
  void cut_behind(Block home) {
    behind_ = to_.split(home, to_.next(call_));
    for (Value v : to_.results(call_)) {
      Value p = to_.add_parameter(behind_, to_.type(v));
      to_.replace_uses(v, p);
      if (Name n = to_.name(v); n.exists()) to_.set_name(v, {}), to_.set_name(p, n);
    }
    to_.erase(to_.terminator(home));
  }

  void take_arguments() {
    pen_.before(call_).from(at_);
    for (size_t k = 0; k < from_.parameters().size(); ++k) {
      Value v = to_.operand(call_, k);
      if (facts_.marks_of(k) & mark::sole) soles_.push_back(v = pen_.sole(v));
      copier_.stand_in(from_.parameters()[k], v);
    }
  }

  Position position(Position p) {
    if (!p.exists() || !at_.exists()) return p.exists() ? p : at_;
    auto [known, is_new] = positions_.try_emplace(p.index);
    if (!is_new) return known->second;
    PositionRow row = module_.position(p);
    if (!row.inlined_at.exists()) row.inlined = callee_;
    row.inlined_at = row.inlined_at.exists() ? position(row.inlined_at) : at_;
    if (row.merged_with.exists()) row.merged_with = position(row.merged_with);
    return positions_[p.index] = module_.add_position(row);
  }

  void copy(Instruction i, Block b) {
    Op op = from_.op(i);
    bool hands_over = op == Op::ReturnCall || op == Op::ReturnCallThrough;
    if (op == Op::Return || hands_over) end_soles(b, from_.position(i));
    if (behind_.exists() && op == Op::Return) {
      std::vector<Value> results;
      for (Value v : from_.operands(i)) results.push_back(copier_.value(v));
      go_behind(b, results, from_.position(i));
    } else if (behind_.exists() && hands_over) {
      std::vector<Type> types;
      for (Value p : to_.parameters(behind_)) types.push_back(to_.type(p));
      Instruction called = append(i, b, op == Op::ReturnCall ? Op::Call : Op::CallThrough, types);
      std::vector<Value> results;
      for (Value v : to_.results(called)) results.push_back(v);
      go_behind(b, results, from_.position(i));
    } else {
      append(i, b, op, {});
    }
  }
  void end_soles(Block b, Position p) {
    pen_.at_end(b).from(position(p));
    for (Value v : soles_) pen_.end_sole(v);
  }
  void go_behind(Block b, std::span<const Value> results, Position p) {
    pen_.at_end(b).from(position(p));
    pen_.go(behind_, results);
  }

  Instruction append(Instruction i, Block b, Op op, std::span<const Type> results) {
    uint8_t permits = from_.permits(i);
    if (touches_floats(from_, i)) permits |= facts_.permits & permit::of_floats;
    return copier_.copy(i, b, op, position(from_.position(i)), permits, results);
  }

  Module& module_;
  Function& to_;
  const Function& from_;
  const FunctionFacts& facts_;  // of the callee
  Name callee_;
  Pen pen_;
  Instruction call_;
  Position at_;
  Block behind_;
  Copier copier_;
  std::vector<Value> soles_;
  std::map<uint32_t, Position> positions_;
};

}  // namespace

void splice_call(Module& module, Symbol caller, Instruction call) {
  splice_call(module, caller, call, module.function(module.function(caller).symbol(call)));
}

void splice_call(Module& module, Symbol caller, Instruction call, const Function& body) {
  spread_permits(module, caller);
  Splicer(module, caller, call, body).run();
}

void spread_permits(Module& module, Symbol function) {
  uint8_t permits = std::exchange(module[function].facts.permits, uint8_t(0));
  if (!permits) return;
  Function& f = module.function(function);
  for (Block b : f.blocks())
    for (Instruction i : f.instructions(b)) {
      uint8_t own = f.permits(i);
      if (touches_floats(f, i)) own |= permits & permit::of_floats;
      if (info(f.op(i)).ends_block()) own |= permits & permit::ends;
      if (own != f.permits(i)) f.set_permits(i, own);
    }
}

}  // namespace porphyry
