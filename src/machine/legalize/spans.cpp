// `copy` and `fill`: short ones of a known length as loads and stores, the rest by helpers.
#include <algorithm>

#include "access_pieces.h"
#include "porter.h"

namespace porphyry::machine {
namespace {

using types::i64;
constexpr uint64_t most_unrolled = 64;  // bytes: eight words, which registers hold

class SpanStep {
 public:
  SpanStep(Legalization& context, Function& f) : context_(context), f_(f), pen_(context.module, f) {}

  void run() {
    for (Block b : f_.blocks())
      for (Instruction i = f_.first(b), next; i.exists(); i = next) {
        next = f_.next(i);
        if (f_.op(i) != Op::Copy && f_.op(i) != Op::Fill) continue;
        pen_.before(i).from(f_.position(i));
        f_.op(i) == Op::Copy ? copy(i) : fill(i);
        f_.erase(i);
      }
  }

 private:
  // The address as one pointer; what is said of the access stays in `said`.
  Value pointer(Instruction i, size_t first, const Address& a) {
    if (!a.indexed && a.offset == 0) return f_.operand(i, first);
    std::vector<Value> operands;
    for (unsigned k = 0; k < a.operand_count(); ++k) operands.push_back(f_.operand(i, first + k));
    Address plain{.scale = a.scale, .offset = a.offset, .indexed = a.indexed};
    Type t = pen_.module().pointer_type();
    return f_.result(
        pen_.put({.op = Op::At, .operands = operands, .results = {&t, 1}, .detail = f_.add_address(plain)}));
  }
  static Address access(const Address& said, const AccessPiece& p) {
    return moved({.align = said.align, .is_volatile = said.is_volatile, .guarded = said.guarded}, p.at);
  }
  // No store passes a trap, as none passes the call of a helper.
  static Address written(const Address& said, const AccessPiece& p) {
    Address out = access(said, p);
    out.guarded = true;
    return out;
  }
  bool short_one(Value bytes) const {
    return f_.is_constant(bytes) && f_.constant_bits(bytes) <= most_unrolled;
  }

  void copy(Instruction i) {
    CopyShape shape = f_.copy_shape(i);
    Value to = pointer(i, 0, shape.to), from = pointer(i, shape.to.operand_count(), shape.from);
    Value bytes = f_.operand(i, f_.operand_count(i) - 1);
    if (!short_one(bytes)) return call("porphyry_copy", {to, from, bytes});
    auto list = pieces_of(f_.constant_bits(bytes));
    std::vector<Value> read;
    for (AccessPiece p : list)
      read.push_back(pen_.load(Type::integer(p.bytes * 8), access(shape.from, p), {&from, 1}));
    for (size_t k = 0; k < list.size(); ++k) pen_.store(read[k], written(shape.to, list[k]), {&to, 1});
  }

  void fill(Instruction i) {
    const Address said = f_.address(i);
    Value to = pointer(i, 1, said), v = pen_.widen_u(f_.operand(i, 0), i64);
    Value bytes = f_.operand(i, f_.operand_count(i) - 1);
    if (!short_one(bytes)) return call("porphyry_fill", {to, v, bytes});
    Value word = pen_.mul(v, pen_.number(i64, 0x0101010101010101u));
    for (AccessPiece p : pieces_of(f_.constant_bits(bytes)))
      pen_.store(pen_.narrow(word, Type::integer(p.bytes * 8)), written(said, p), {&to, 1});
  }

  void call(std::string_view helper, std::initializer_list<Value> arguments) {
    call_helper(context_, pen_, context_.helpers[helper], std::span(arguments.begin(), arguments.size()));
  }

  Legalization& context_;
  Function& f_;
  FoldingPen pen_;
};

}  // namespace

namespace legal {
void spans(FunctionContext& c) { SpanStep(state(c), c.function).run(); }
}  // namespace legal

}  // namespace porphyry::machine
