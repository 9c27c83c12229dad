#include "porphyry/ir/splice.h"

#include <map>

#include "porphyry/ir/edit.h"
#include "porphyry/ir/order.h"
#include "porphyry/ir/pen.h"

namespace porphyry {
namespace {

class Splicer {
 public:
  Splicer(Module& module, Symbol caller, Instruction call)
      : module_(module),
        to_(module.function(caller)),
        from_(module.function(to_.symbol(call))),
        facts_(module[to_.symbol(call)].facts),
        pen_(module, to_),
        call_(call),
        at_(to_.position(call)),
        values_(from_.value_limit()),
        blocks_(from_.block_limit()) {}

  void run() {
    Block home = to_.block(call_);
    bool leaves = info(to_.op(call_)).ends_block();
    if (!leaves) cut_behind(home);
    Blocks order = reverse_postorder(from_);
    Block last = home;
    for (Block b : order) {
      last = blocks_[b] = to_.add_block_after(last);
      if (b == from_.entry()) continue;
      for (Value v : from_.parameters(b)) values_[v] = to_.add_parameter(last, from_.type(v));
    }
    take_arguments();
    std::vector<Value> results;
    for (Value v : to_.results(call_)) results.push_back(v);
    to_.erase(call_);
    pen_.at_end(home).from(at_);
    pen_.go(blocks_[from_.entry()]);
    for (Block b : order)
      for (Instruction i : from_.instructions(b)) copy(i, blocks_[b]);
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
      values_[from_.parameters()[k]] = v;
    }
  }

  Value value(Value v) {
    if (!from_.is_constant(v)) return values_[v];
    return to_.constant_lanes(from_.type(v), from_.constant_words(v));
  }
  Position position(Position p) {
    if (!p.exists() || !at_.exists()) return p.exists() ? p : at_;
    auto [known, is_new] = positions_.try_emplace(p.index);
    if (!is_new) return known->second;
    PositionRow row = module_.position(p);
    row.inlined_at = row.inlined_at.exists() ? position(row.inlined_at) : at_;
    if (row.merged_with.exists()) row.merged_with = position(row.merged_with);
    return positions_[p.index] = module_.add_position(row);
  }

  void copy(Instruction i, Block b) {
    operands_.clear(), types_.clear();
    for (Value v : from_.operands(i)) operands_.push_back(value(v));
    for (Value v : from_.results(i)) types_.push_back(from_.type(v));
    Op op = from_.op(i);
    if (op == Op::Return || op == Op::ReturnCall || op == Op::ReturnCallThrough)
      end_soles(b, from_.position(i));
    if (behind_.exists() && op == Op::Return) return go_behind(b, operands_, from_.position(i));
    if (behind_.exists() && (op == Op::ReturnCall || op == Op::ReturnCallThrough)) {
      for (Value p : to_.parameters(behind_)) types_.push_back(to_.type(p));
      Instruction called = append(i, b, op == Op::ReturnCall ? Op::Call : Op::CallThrough);
      std::vector<Value> results;
      for (Value v : to_.results(called)) results.push_back(v);
      return go_behind(b, results, from_.position(i));
    }
    Instruction made = append(i, b, op);
    for (size_t k = 0; k < types_.size(); ++k) values_[from_.result(i, k)] = to_.result(made, k);
  }
  void end_soles(Block b, Position p) {
    pen_.at_end(b).from(position(p));
    for (Value v : soles_) pen_.end_sole(v);
  }
  void go_behind(Block b, std::span<const Value> results, Position p) {
    pen_.at_end(b).from(position(p));
    pen_.go(behind_, results);
  }

  Instruction append(Instruction i, Block b, Op op) {
    std::vector<std::vector<Value>> arguments;
    std::vector<Function::Draft::Destination> targets;
    for (Edge e : from_.edges(i)) {
      auto& list = arguments.emplace_back();
      for (Value v : from_.arguments(e)) list.push_back(value(v));
    }
    for (size_t k = 0; k < arguments.size(); ++k) {
      Edge e = from_.edge(i, k);
      targets.push_back({blocks_[from_.to(e)], arguments[k], from_.weight(e)});
    }
    uint8_t permits = from_.permits(i);
    if (touches_floats(from_, i)) permits |= facts_.permits & permit::of_floats;
    return to_.append(b, {.op = op,
                          .operands = operands_,
                          .results = types_,
                          .detail = detail(i),
                          .position = position(from_.position(i)),
                          .targets = targets,
                          .promises = from_.promises(i),
                          .permits = permits,
                          .hint = from_.hint(i)});
  }
  uint32_t detail(Instruction i) {
    switch (info(from_.op(i)).detail()) {
      case Detail::Address: return to_.add_address(from_.address(i));
      case Detail::Copy: return to_.add_copy(from_.copy_shape(i));
      case Detail::Reserve: return to_.add_reserve(from_.reserve_shape(i));
      case Detail::Lanes: {
        std::vector<uint16_t> lanes;
        for (unsigned k = 0; k < from_.type(from_.result(i)).lanes(); ++k)
          lanes.push_back(from_.shuffle_lane(i, k));
        return to_.add_shuffle(lanes);
      }
      case Detail::Cases: {
        std::vector<Bits> cases;
        for (size_t k = 0; k + 1 < from_.edge_count(i); ++k) cases.push_back(from_.case_value(i, k));
        return to_.add_cases(cases);
      }
      case Detail::Symbol:
      case Detail::Name: return from_.detail(i);
      case Detail::None: break;
    }
    return Function::no_detail;
  }

  Module& module_;
  Function& to_;
  const Function& from_;
  const FunctionFacts& facts_;  // of the callee
  Pen pen_;
  Instruction call_;
  Position at_;
  Block behind_;
  Table<Value, Value> values_;  // of the copy, by those of the callee
  Table<Block, Block> blocks_;
  std::vector<Value> soles_, operands_;
  std::vector<Type> types_;
  std::map<uint32_t, Position> positions_;
};

}  // namespace

void splice_call(Module& module, Symbol caller, Instruction call) {
  spread_permits(module, caller);
  Splicer(module, caller, call).run();
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
