#include "porphyry/machine/legalize.h"

#include <algorithm>
#include <bit>

#include "expand.h"
#include "porphyry/ir/pen.h"

namespace porphyry::machine {

Type carrier(Type t) {
  if (t.is_bool()) return Type::integer(8);
  if (t.is_pointer()) return Type::integer(64);
  return t;
}

Coverage::Coverage(const Target& target, uint8_t features) : rows_(operation_count) {
  for (const Rule& rule : target.rules) {
    if (rule.matches_constant || (rule.needs & ~features)) continue;
    const PatternNode& root = rule.nodes[0];
    bool plain = true;
    for (const PatternNode& n : rule.nodes.subspan(1))
      plain &= n.kind == NodeKind::Register || n.kind == NodeKind::Memory;
    if (plain) rows_[static_cast<size_t>(root.op)].push_back({carrier(root.operand), carrier(root.result)});
  }
}

bool Coverage::covers(Op op, Type operand, Type result) const {
  operand = carrier(operand), result = carrier(result);
  return std::any_of(rows_[static_cast<size_t>(op)].begin(), rows_[static_cast<size_t>(op)].end(),
                     [&](const Row& r) { return r.operand == operand && r.result == result; });
}

void split_critical_edges(Function& f) {
  for (Block b = f.entry(); b.exists(); b = f.next(b)) {
    Instruction end = f.terminator(b);
    if (!end.exists() || f.edge_count(end) < 2) continue;
    for (Edge e : f.edges(end)) {
      Block to = f.to(e);
      if (!f.next_in(f.first_in(to)).exists()) continue;
      std::vector<Value> arguments;
      for (size_t k = 0; k < f.argument_count(e); ++k) arguments.push_back(f.argument(e, k));
      Block between = f.add_block_after(b);
      f.redirect(e, between);
      Function::Draft::Target target{to, arguments};
      f.append(between, {.op = Op::Go, .position = f.position(end), .targets = {&target, 1}});
    }
  }
}

namespace {

Op mirrored(Op op) {
  switch (op) {
    case Op::LtS: return Op::GtS;
    case Op::GtS: return Op::LtS;
    case Op::LeS: return Op::GeS;
    case Op::GeS: return Op::LeS;
    case Op::LtU: return Op::GtU;
    case Op::GtU: return Op::LtU;
    case Op::LeU: return Op::GeU;
    case Op::GeU: return Op::LeU;
    default: return op;
  }
}

class Rewriter {
 public:
  Rewriter(Module& module, Symbol symbol, const Target& target, const Coverage& coverage)
      : module_(module),
        f_(module.function(symbol)),
        target_(target),
        coverage_(coverage),
        expander_(module, f_, coverage) {}

  Diagnostics run() {
    for (Block b = f_.entry(); b.exists(); b = f_.next(b)) {
      for (Instruction i = f_.first(b), after; i.exists(); i = after) {
        after = f_.next(i);
        one(i);
      }
    }
    return expander_.problems();
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
    take_uses(f_.result(i), v);
    f_.erase(i);
  }

  void take_uses(Value old, Value v) {
    if (Name n = f_.name(old);
        n.exists() && !f_.is_constant(v) && !f_.name(v).exists() && f_.kind(v) == ValueKind::Result)
      f_.set_name(v, n), f_.set_name(old, {});
    f_.replace_uses(old, v);
  }

  void pair(Instruction i) {
    std::vector<Value> operands;
    for (size_t k = 0; k < f_.operand_count(i); ++k) operands.push_back(f_.operand(i, k));
    auto [first, second] = expander_.make_pair(f_.op(i), operands);
    take_uses(f_.result(i, 0), first);
    take_uses(f_.result(i, 1), second);
    f_.erase(i);
  }

  void plain(Instruction i) {
    Op op = f_.op(i);
    bool compares = mirrored(op) != op || op == Op::Eq || op == Op::Ne;
    if (compares && f_.is_constant(f_.operand(i, 0)) && !f_.is_constant(f_.operand(i, 1)))
      return replace(i, expander_.make(mirrored(op), {f_.operand(i, 1), f_.operand(i, 0)}));
    Type operand = f_.type(f_.operand(i, f_.operand_count(i) - 1)), result = f_.type(f_.result(i));
    bool not_of_bool = op == Op::Not && operand.is_bool();
    if (!not_of_bool && coverage_.covers(op, operand, result)) return;
    std::vector<Value> operands;
    for (size_t k = 0; k < f_.operand_count(i); ++k) operands.push_back(f_.operand(i, k));
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
    Pen& pen = expander_.pen();
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
    Pen& pen = expander_.pen();
    Type i64 = Type::integer(64);
    Value wide = pen.reserve(shape.bytes + shape.align - 1, target_.convention.stack_align);
    Value up = pen.add(pen.convert(Op::Bits, i64, wide), pen.integer(i64, shape.align - 1));
    replace(i, pen.convert(Op::Bits, Type::pointer(),
                           pen.write(Op::And, {up, pen.integer(i64, -int64_t(shape.align))})));
  }

  // What is outside may be anywhere: its address is read from a word that the loader fills in.
  void external_address(Instruction i) {
    Symbol s = f_.symbol(i);
    SymbolKind kind = module_[s].kind;
    if (kind == SymbolKind::Function || kind == SymbolKind::Data) return;
    std::string name = "address of " + std::string(module_.symbol_name(s));
    Symbol word = module_.find(name);
    if (!word.exists()) {
      DataItem item{.align = 8};
      item.pieces.push_back({.kind = DataPiece::Kind::Addresses, .symbols = {s}});
      word = module_.add_data(name, std::move(item));
      module_[word].is_local = true;
    }
    replace(i, expander_.pen().load(Type::pointer(), expander_.pen().address_of(word)));
  }

  Module& module_;
  Function& f_;
  const Target& target_;
  const Coverage& coverage_;
  Expander expander_;
};

bool is_compare(Op op) { return info(op).result == ResultRule::Truth; }

}  // namespace

Diagnostics rewrite_operations(Module& module, Symbol function, const Target& target,
                               const Coverage& coverage) {
  return Rewriter(module, function, target, coverage).run();
}

namespace {

// Brings comparisons and addresses beside their users.
class Gatherer {
 public:
  Gatherer(Module& module, Function& f) : module_(module), f_(f) {
    for (size_t k = 0; k < f.value_limit(); ++k)
      if (Name n = f.name(Value(k)); n.exists()) taken_.set(n, true);
  }

  void run() {
    for (Block b = f_.entry(); b.exists(); b = f_.next(b))
      for (Instruction i = f_.first(b); i.exists(); i = f_.next(i)) user(i);
  }

 private:
  void user(Instruction i) {
    Op op = f_.op(i);
    bool decides = op == Op::When || op == Op::Pick, accesses = op == Op::Load || op == Op::Store;
    if (!decides && !accesses) return;
    size_t which = op == Op::Store ? 1 : 0;
    Instruction d = f_.definition(f_.operand(i, which));
    if (!d.exists() || !(decides ? is_compare(f_.op(d)) : f_.op(d) == Op::At)) return;
    bool beside =
        f_.block(d) == f_.block(i) && (accesses || (f_.next(d) == i && f_.has_one_use(f_.result(d))));
    if (!beside) copy_before(i, f_.operand_slot(i, which), d);
  }

  void copy_before(Instruction user, Slot slot, Instruction original) {
    std::vector<Value> operands;
    for (size_t k = 0; k < f_.operand_count(original); ++k) operands.push_back(f_.operand(original, k));
    Value old = f_.result(original);
    Type type = f_.type(old);
    uint32_t detail = f_.op(original) == Op::At ? f_.add_address(f_.address(original)) : 0;
    Instruction made = f_.insert_before(user, {.op = f_.op(original),
                                               .operands = operands,
                                               .results = {&type, 1},
                                               .detail = detail,
                                               .position = f_.position(original)});
    f_.set(slot, f_.result(made));
    Name name = f_.name(old);
    if (f_.has_uses(old)) {
      if (name.exists()) f_.set_name(f_.result(made), another(name));
      return;
    }
    if (name.exists()) f_.set_name(f_.result(made), name), f_.set_name(old, {});
    f_.erase(original);
  }

  // colder_2, colder_3, …
  Name another(Name name) {
    std::string base(module_.text(name));
    for (int k = 2;; ++k) {
      Name n = module_.realm().name(base + "_" + std::to_string(k));
      if (taken_.get(n)) continue;
      taken_.set(n, true);
      return n;
    }
  }

  Module& module_;
  Function& f_;
  SideTable<Name, char> taken_;
};

}  // namespace

// A comparison that decides a branch or a pick stands right before it, one copy for each; an address stands
// in the block of the access that uses it.
void gather_beside_users(Module& module, Function& f) { Gatherer(module, f).run(); }

Diagnostics legalize(Module& module, Symbol function, const Target& target, const Coverage& coverage) {
  Diagnostics problems = rewrite_operations(module, function, target, coverage);
  split_critical_edges(module.function(function));
  gather_beside_users(module, module.function(function));
  return problems;
}

}  // namespace porphyry::machine
