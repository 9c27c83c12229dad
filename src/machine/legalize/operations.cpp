// Says what the book has no rule for in operations that it has, and brings addresses into the machine's form.
#include <algorithm>

#include "expand.h"
#include "relatives.h"
#include "state.h"

namespace porphyry::machine {
namespace {

class Rewriter {
 public:
  Rewriter(Legalization& context, Function& f)
      : context_(context),
        module_(context.module),
        f_(f),
        target_(context.target),
        coverage_(context.coverage),
        expander_(context.module, f, context.coverage, context.helpers) {}

  void run() {
    for (Block b : f_.blocks()) {
      for (Instruction i = f_.first(b), after; i.exists(); i = after) {
        after = f_.next(i);
        one(i);
      }
    }
  }

 private:
  void one(Instruction i) {
    const OperationInfo& row = info(f_.op(i));
    expander_.pen().before(i).from(f_.position(i));
    switch (row.layout) {
      case Layout::One:
      case Layout::Two:
      case Layout::Three:
      case Layout::Pick:
      case Layout::Convert: return plain(i);
      case Layout::Pair:
      case Layout::Carry: return pair(i);
      case Layout::Load:
      case Layout::Store:
      case Layout::At: return access(i);
      case Layout::Reserve: return reserve(i);
      case Layout::AddressOf: return external_address(i);
      default: return;
    }
  }

  void replace(Instruction i, Value v) {
    expander_.pen().put_in_place(f_.result(i), v);
    f_.erase(i);
  }

  void pair(Instruction i) {
    std::vector<Value> operands;
    for (Value v : f_.operands(i)) operands.push_back(v);
    auto [first, second] = expander_.make_pair(f_.op(i), operands);
    expander_.pen().put_in_place(f_.result(i, 0), first);
    expander_.pen().put_in_place(f_.result(i, 1), second);
    f_.erase(i);
  }

  void plain(Instruction i) {
    Op op = f_.op(i);
    if (f_.type(f_.operand(i, 0)).has_lanes()) return;  // what the convention passes
    // A constant goes second, where rules have literals; not for orderings of floats, which have none.
    const Relatives* compares = relatives_of(op);
    if (compares && compares->opposite != op && f_.is_constant(f_.operand(i, 0)) &&
        !f_.is_constant(f_.operand(i, 1)))
      return replace(i, expander_.make(compares->mirrored, {f_.operand(i, 1), f_.operand(i, 0)}));
    Type operand = f_.type(f_.operand(i, f_.operand_count(i) - 1)), result = f_.type(f_.result(i));
    bool not_of_bool = op == Op::Not && operand.is_bool();
    if (!not_of_bool && coverage_.covers(op, operand, result)) return;
    std::vector<Value> operands;
    for (Value v : f_.operands(i)) operands.push_back(v);
    replace(i, expander_.make(op, operands, result));
  }

  // Scales and offsets that the machine has no form for become arithmetic; a bool is read as a whole byte.
  void access(Instruction i) {
    Address a = f_.address(i);
    size_t base = f_.op(i) == Op::Store ? 1 : 0;
    int64_t limit = int64_t(1) << (target_.address_offset_bits - 1);
    bool scale_fits = !a.indexed || std::find(target_.address_scales.begin(), target_.address_scales.end(),
                                              a.scale) != target_.address_scales.end();
    bool offset_fits = a.offset >= -limit / 2 && a.offset < limit / 2;
    bool reads_bool = f_.op(i) == Op::Load && f_.type(f_.result(i)).is_bool();
    if (scale_fits && offset_fits && !reads_bool) return;
    FoldingPen& pen = expander_.pen();
    Value p = f_.operand(i, base), index = a.indexed ? f_.operand(i, base + 1) : Value();
    if (!scale_fits) index = pen.mul(index, pen.integer(Type::integer(64), a.scale)), a.scale = 1;
    if (!offset_fits) {
      Value far = pen.integer(Type::integer(64), a.offset);
      index =
          index.exists()
              ? pen.add(a.scale == 1 ? index : pen.mul(index, pen.integer(Type::integer(64), a.scale)), far)
              : far;
      a.scale = 1, a.offset = 0;
    }
    a.indexed = index.exists();
    std::vector<Value> operands;
    if (base) operands.push_back(f_.operand(i, 0));
    operands.push_back(p);
    if (a.indexed) operands.push_back(index);
    Type type = f_.result_count(i) ? f_.type(f_.result(i)) : Type();
    if (reads_bool) type = Type::integer(8);
    Function::Draft draft{.op = f_.op(i), .operands = operands, .detail = f_.add_address(a)};
    if (type.exists()) draft.results = {&type, 1};
    Instruction made = pen.put(draft);
    if (!type.exists()) return f_.erase(i);
    Value v = f_.result(made);
    if (reads_bool)
      v = pen.write(Op::Ne, {pen.write(Op::And, {v, pen.integer(type, 1)}), pen.integer(type, 0)});
    replace(i, v);
  }

  // The frame is aligned to what the stack is aligned to; more is had by reserving more and rounding up.
  void reserve(Instruction i) {
    ReserveShape shape = f_.reserve_shape(i);
    if (shape.align <= target_.convention.stack_align) return;
    FoldingPen& pen = expander_.pen();
    Type i64 = Type::integer(64);
    Value wide = pen.reserve(shape.bytes + shape.align - 1, target_.convention.stack_align);
    Value up = pen.add(pen.convert(Op::Bits, i64, wide), pen.integer(i64, shape.align - 1));
    replace(i, pen.convert(Op::Bits, Type::pointer(),
                           pen.write(Op::And, {up, pen.integer(i64, -int64_t(shape.align))})));
  }

  // What is outside may be anywhere: its address is read from a word that the loader fills in.
  void external_address(Instruction i) {
    Symbol s = f_.symbol(i);
    const SymbolRow& row = module_[s];
    bool here = row.kind == SymbolKind::Function || row.kind == SymbolKind::Data;
    bool fixed = row.is_local || !context_.exported;
    if (here && !row.is_weak && fixed) return;
    replace(i, expander_.pen().load(Type::pointer(), expander_.pen().address_of(address_word(s))));
  }
  // The item that holds the symbol's address, under a name that the program has not.
  Symbol address_word(Symbol s) {
    auto& words = context_.address_words;
    if (words.size() <= s.index) words.resize(s.index + 1u);
    if (words[s.index].exists()) return words[s.index];
    std::string name = "address of " + std::string(module_.symbol_name(s));
    while (module_.find(name).exists()) name += "_";
    DataItem item{.align = 8};
    item.pieces.push_back({.kind = DataPiece::Kind::Addresses, .symbols = {s}});
    Symbol word = module_.add_data(name, std::move(item));
    module_[word].is_local = true;
    return words[s.index] = word;
  }

  Legalization& context_;
  Module& module_;
  Function& f_;
  const Target& target_;
  const Coverage& coverage_;
  Expander expander_;
};

}  // namespace

namespace legal {
void operations(FunctionContext& c) { Rewriter(state(c), c.function).run(); }
}  // namespace legal

}  // namespace porphyry::machine
