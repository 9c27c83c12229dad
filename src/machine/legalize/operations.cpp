// Says what the book has no rule for in operations that it has, and brings addresses into the machine's form.
#include <algorithm>

#include "expand.h"
#include "porphyry/ir/relatives.h"
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
    if ((op == Op::ShrU || op == Op::ShrS) && high_half_shifted(i)) return;
    if (!not_of_bool && coverage_.covers(op, operand, result)) return;
    bool shifts = op == Op::Shl && f_.is_constant(f_.operand(i, 1));
    if (shifts && coverage_.by_constant(op, operand)) return;
    std::vector<Value> operands;
    for (Value v : f_.operands(i)) operands.push_back(v);
    replace(i, expander_.make(op, operands, result));
  }

  // What a product's high half, taken by a shift in a wider word, is shifted by further is one shift.
  bool high_half_shifted(Instruction i) {
    Instruction half = f_.definition(f_.operand(i, 0));
    if (!f_.is_constant(f_.operand(i, 1)) || !half.exists() || f_.op(half) != Op::Narrow) return false;
    Value wide = f_.operand(half, 0);
    Instruction shift = f_.definition(wide);
    unsigned width = f_.type(f_.result(i)).bits();
    if (!shift.exists() || (f_.op(shift) != Op::ShrU && f_.op(shift) != Op::ShrS) ||
        !f_.is_constant(f_.operand(shift, 1)) || f_.type(wide).bits() != 2 * width ||
        f_.constant_word(f_.operand(shift, 1)) != width)
      return false;
    FoldingPen& pen = expander_.pen();
    Bits further = f_.constant_word(f_.operand(i, 1)) % width;
    Value all = pen.make(f_.op(i), {f_.operand(shift, 0), pen.number(f_.type(wide), width + further)});
    replace(i, pen.make(Op::Narrow, {all}, f_.type(f_.result(i))));
    return true;
  }

  // Scales and offsets that the machine has no form for become arithmetic; a bool is read as a whole byte.
  void access(Instruction i) {
    Address a = f_.address(i);
    size_t base = f_.op(i) == Op::Store ? 1 : 0;
    const AddressShape& shape = target_.address;
    // Offsets of what is folded in later must fit, too.
    int64_t limit = int64_t(1) << (shape.offset_bits - 2);
    bool has_index = !shape.scales.empty(), is_sum = f_.op(i) == Op::At && a.scale == 1 && a.offset == 0;
    bool scale_fits = !a.indexed || (has_index ? takes_scale(a.scale) : is_sum);
    bool offset_fits = a.offset >= -limit && a.offset < limit;
    bool reads_bool = f_.op(i) == Op::Load && f_.type(f_.result(i)).is_bool();
    if (scale_fits && offset_fits && !reads_bool) return;
    FoldingPen& pen = expander_.pen();
    const Type index_type = module_.index_type();
    Value p = f_.operand(i, base), index = a.indexed ? f_.operand(i, base + 1) : Value();
    auto scaled = [&] { return a.scale == 1 ? index : pen.mul(index, pen.integer(index_type, a.scale)); };
    if (!scale_fits) index = scaled(), a.scale = 1;
    if (!offset_fits) {
      Value far = pen.integer(index_type, a.offset);
      index = index.exists() ? pen.add(scaled(), far) : far;
      a.scale = 1, a.offset = 0;
    }
    bool stays_sum = f_.op(i) == Op::At && a.offset == 0;
    if (index.exists() && !has_index && !stays_sum) p = sum(p, index), index = {};
    a.indexed = index.exists();
    if (!a.indexed) a.scale = 1;
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
      v = expander_.make(Op::Ne, {expander_.make(Op::And, {v, pen.integer(type, 1)}), pen.integer(type, 0)});
    replace(i, v);
  }
  bool takes_scale(uint64_t scale) const {
    const auto& scales = target_.address.scales;
    return std::find(scales.begin(), scales.end(), scale) != scales.end();
  }
  // A pointer so many bytes further on, which a rule adds up.
  Value sum(Value pointer, Value bytes) {
    Value operands[] = {pointer, bytes};
    Type type = module_.pointer_type();
    return f_.result(expander_.pen().put({.op = Op::At,
                                          .operands = operands,
                                          .results = {&type, 1},
                                          .detail = f_.add_address({.scale = 1, .indexed = true})}));
  }

  // The frame is aligned to what the stack is aligned to; more is had by reserving more and rounding up.
  void reserve(Instruction i) {
    ReserveShape shape = f_.reserve_shape(i);
    if (shape.align <= target_.convention.stack_align) return;
    FoldingPen& pen = expander_.pen();
    Type whole = module_.index_type();
    Value wide = pen.reserve(shape.bytes + shape.align - 1, target_.convention.stack_align);
    Value up = pen.add(pen.convert(Op::Bits, whole, wide), pen.integer(whole, shape.align - 1));
    replace(i, pen.convert(Op::Bits, module_.pointer_type(),
                           pen.write(Op::And, {up, pen.integer(whole, -int64_t(shape.align))})));
  }

  // What is outside may be anywhere: its address is read from a word that the loader fills in.
  void external_address(Instruction i) {
    Symbol s = f_.symbol(i);
    const SymbolRow& row = module_[s];
    bool here = row.kind == SymbolKind::Function || row.kind == SymbolKind::Data;
    bool fixed = row.is_local || !context_.exported;
    if (here && !row.is_weak && fixed) return;
    replace(i, expander_.pen().load(module_.pointer_type(), expander_.pen().address_of(address_word(s))));
  }
  // The item that holds the symbol's address, under a name that the program has not.
  Symbol address_word(Symbol s) {
    auto& words = context_.address_words;
    if (words.size() <= s.index) words.resize(s.index + 1u);
    if (words[s.index].exists()) return words[s.index];
    std::string name = "address of " + std::string(module_.symbol_name(s));
    while (module_.find(name).exists()) name += "_";
    DataItem item{.align = module_.pointer_type().bytes()};
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
