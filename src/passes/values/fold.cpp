// fold: operations on constants become constants, and branches on constants become plain. A work list follows
// each new constant to its users. O(instructions + cases).
#include <fmt/format.h>

#include "porphyry/ir/compute.h"
#include "porphyry/ir/pen.h"
#include "porphyry/optimize/pass.h"
#include "porphyry/print/print.h"

namespace porphyry {
namespace {

class Folder {
 public:
  explicit Folder(FunctionContext& c) : c_(c), f_(c.function) {}

  void run() {
    for (Block b : f_.blocks())
      for (Instruction i : f_.instructions(b)) work_.push_back(i);
    for (size_t k = 0; k < work_.size(); ++k)
      if (f_.alive(work_[k])) one(work_[k]);
  }

 private:
  void one(Instruction i) {
    if (f_.op(i) == Op::When || f_.op(i) == Op::Choose) return branch(i);
    if (f_.op(i) == Op::Pick && f_.is_constant(f_.operand(i, 0)) && f_.is_uniform(f_.operand(i, 0))) {
      bool yes = f_.constant_bits(f_.operand(i, 0)) & 1;
      return replace(i, {f_.operand(i, yes ? 1 : 2)}, "the condition is constant");
    }
    const OperationInfo& row = info(f_.op(i));
    size_t count = f_.operand_count(i), result_count = f_.result_count(i);
    if (!row.is_plain() || result_count == 0) return;
    Type types[3], results[2];
    unsigned lanes = 0;
    for (size_t k = 0; k < result_count; ++k) {
      results[k] = f_.type(f_.result(i, k));
      if (results[k].is_pointer()) return;
      lanes += results[k].lanes();
    }
    in_.clear();
    for (size_t k = 0; k < count; ++k) {
      Value v = f_.operand(i, k);
      types[k] = f_.type(v);
      // An address's bits are not a number that can be computed with here.
      if (!f_.is_constant(v) || types[k].is_pointer()) return;
      for (unsigned lane = 0; lane < types[k].lanes(); ++lane) in_.push_back(f_.constant_word(v, lane));
    }
    std::vector<uint16_t> picked;
    for (unsigned k = 0; row.layout == Layout::Shuffle && k < lanes; ++k)
      picked.push_back(f_.shuffle_lane(i, k));
    out_.assign(lanes, 0);
    if (!compute_lanes(f_.op(i), {types, count}, {results, result_count}, in_, out_, picked)) {
      c_.declined(f_.position(i), c_.name(f_.result(i)), "the operation stays", "it traps whenever it runs",
                  "operands for which it has a result", {{"operation", write_text(c_.module, f_, i)}});
      return;
    }
    std::vector<Value> constants;
    std::span<const Bits> left(out_);
    for (size_t k = 0; k < result_count; left = left.subspan(results[k].lanes()), ++k)
      constants.push_back(constant_of(results[k], left.first(results[k].lanes())));
    return replace(i, constants, "all operands are constant");
  }

  Value constant_of(Type type, std::span<const Bits> lanes) {
    if (!type.has_lanes()) return f_.constant(type, lanes[0]);
    std::vector<uint64_t> words;
    for (Bits w : lanes) {
      words.push_back(static_cast<uint64_t>(w));
      if (type.words_per_lane() == 2) words.push_back(static_cast<uint64_t>(w >> 64));
    }
    return f_.constant_lanes(type, words);
  }

  void replace(Instruction i, const std::vector<Value>& with, const char* why) {
    for (size_t k = 0; k < with.size(); ++k) {
      Value old = f_.result(i, k);
      if (c_.wants_notes())
        c_.done(f_.position(i), c_.name(old), "became " + c_.name(with[k]), why,
                {{"operation", write_text(c_.module, f_, i)}});
      for (Slot s : f_.uses(old)) work_.push_back(f_.use(s).user);
      f_.replace_uses(old, with[k]);
    }
    f_.erase(i);
  }

  void branch(Instruction i) {
    Value condition = f_.operand(i, 0);
    if (!f_.is_constant(condition)) return;
    Edge taken = f_.edge(i, f_.op(i) == Op::Choose ? case_of(i, f_.constant_word(condition))
                                                   : (f_.constant_bits(condition) & 1 ? 0 : 1));
    std::vector<Value> arguments;
    for (Value v : f_.arguments(taken)) arguments.push_back(v);
    Block to = f_.to(taken), home = f_.block(i);
    Position position = f_.position(i);
    if (c_.wants_notes())
      c_.done(position, block_text(c_.module, f_, home), "always goes to " + block_text(c_.module, f_, to),
              "the condition is constant");
    f_.erase(i);
    Function::Draft::Destination target{to, arguments};
    f_.append(home, {.op = Op::Go, .position = position, .targets = {&target, 1}});
  }

  // The way that a choose takes; its last one is for all other numbers.
  size_t case_of(Instruction i, Bits number) const {
    size_t last = f_.edges(i).size() - 1;
    for (size_t k = 0; k < last; ++k)
      if (f_.case_value(i, k) == number) return k;
    return last;
  }

  FunctionContext& c_;
  Function& f_;
  std::vector<Instruction> work_;
  std::vector<Bits> in_, out_;  // lanes of the operands and of the result
};

}  // namespace

void fold(FunctionContext& c) { Folder(c).run(); }

}  // namespace porphyry
