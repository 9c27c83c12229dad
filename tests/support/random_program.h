// Random programs: valid, ending, and the same whoever runs them. Every plain operation of the table may come
// up, in every type; control flow is branches that join, counted loops, early returns and calls of earlier
// functions; memory is frame slots, a data item and a piece that is handed in.
//
// NaNs: which one an operation gives is open, so a float whose bits could be seen is made canonical first.
#pragma once

#include <random>

#include "porphyry/ir/pen.h"

namespace porphyry::testing {

class RandomProgram {
 public:
  static constexpr int piece_bytes = 64;

  RandomProgram(Realm& realm, uint64_t seed) : random_(seed), module_(realm, "random") {
    DataItem item{.align = 8};
    item.pieces.push_back({.kind = DataPiece::Kind::Zero, .zero_bytes = piece_bytes});
    data_ = module_.add_data("store", std::move(item));
    size_t count = 1 + below(3);
    for (size_t k = 0; k < count; ++k) make_function(k + 1 == count);
  }

  Module& module() { return module_; }
  Symbol main() const { return functions_.back(); }
  // Argument bits for the last function; its first parameter is the piece.
  std::vector<uint64_t> arguments() {
    std::vector<uint64_t> out;
    for (size_t k = 1; k < module_.function(main()).signature().parameters.size(); ++k)
      out.push_back(constant_bits(module_.function(main()).signature().parameters[k]));
    return out;
  }

 private:
  size_t below(size_t n) { return random_() % n; }
  bool chance(int percent) { return below(100) < static_cast<size_t>(percent); }

  Type any_type() {
    static const Type types[] = {Type::boolean(),   Type::integer(8),  Type::integer(16),
                                 Type::integer(32), Type::integer(32), Type::integer(64),
                                 Type::integer(64), Type::f32(),       Type::f64()};
    return types[below(std::size(types))];
  }

  uint64_t constant_bits(Type t) {
    if (t.is_float()) {
      static const double values[] = {0.0,   -0.0,  1.0,  -1.0,  0.5,   2.5,
                                      -3.75, 100.0, 1e10, -1e20, 1e-40, 65504.0};
      double d = values[below(std::size(values))];
      if (chance(5)) d = 1.0 / 0.0;
      return t.bits() == 32 ? std::bit_cast<uint32_t>(static_cast<float>(d)) : std::bit_cast<uint64_t>(d);
    }
    uint64_t v = random_();
    switch (below(5)) {
      case 0: v = below(4); break;
      case 1: v = 0 - below(4); break;
      case 2: v = uint64_t(1) << below(t.bits()); break;
      case 3: v >>= below(64); break;
      default: break;
    }
    return v & static_cast<uint64_t>(mask_(t));
  }
  static uint64_t mask_(Type t) { return t.bits() >= 64 ? ~uint64_t(0) : (uint64_t(1) << t.bits()) - 1; }

  // A value of a type that is there, or a constant.
  Value value(Type t) {
    std::vector<Value> fitting;
    for (size_t k = scope_.size(); k-- > 0 && fitting.size() < 8;)
      if (f_->type(scope_[k]) == t) fitting.push_back(scope_[k]);
    if (fitting.empty() || chance(20)) return f_->constant(t, constant_bits(t));
    return fitting[below(fitting.size())];
  }

  Value keep(Value v) {
    scope_.push_back(v);
    return v;
  }

  Value canonical(Value v) {
    Type t = f_->type(v);
    if (!t.is_float()) return v;
    return pen_->pick(pen_->write(Op::Unordered, {v, v}), pen_->real(t, 1.0), v);
  }

  void plain_operation() {
    auto rows = all_operations();
    const OperationInfo& row = rows[below(rows.size())];
    if (row.layout > Layout::Convert) return;
    if (row.layout == Layout::Convert) return conversion(row.op);
    for (int tries = 0; tries < 20; ++tries) {
      Type t = any_type();
      if (!row.accepts_shape(t.shape())) continue;
      std::vector<Value> v;
      if (row.layout == Layout::Pick) v.push_back(value(Type::boolean()));
      while (v.size() < row.arity()) v.push_back(value(t));
      if (row.op == Op::CopySign) v[1] = canonical(v[1]);
      bool divides = row.may_trap();
      if (divides && !chance(3)) {  // a divisor that is neither zero nor -1
        v[1] = pen_->write(Op::Or, {pen_->write(Op::ShrU, {v[1], f_->constant(t, 1)}), f_->constant(t, 1)});
      }
      if (row.arity() == 1)
        keep(pen_->write(row.op, {v[0]}));
      else if (row.arity() == 2)
        keep(pen_->write(row.op, {v[0], v[1]}));
      else
        keep(pen_->write(row.op, {v[0], v[1], v[2]}));
      return;
    }
  }

  void conversion(Op op) {
    for (int tries = 0; tries < 40; ++tries) {
      Type from = any_type(), to = any_type();
      if (conversion_problem(op, from, to)) continue;
      Value v = value(from);
      if (op == Op::Bits) v = canonical(v);
      if (op == Op::Bits && to.is_float()) {
        keep(canonical(pen_->convert(op, to, v)));
        return;
      }
      keep(pen_->convert(op, to, v));
      return;
    }
  }

  // A pointer to eight bytes inside one of the objects: zone by type, so that bits of floats stay hidden.
  void memory_operation() {
    Type t = any_type();
    if (t.is_bool()) t = Type::integer(8);
    Value base;
    int64_t zone = t.is_float() ? (t.bits() == 32 ? 32 : 48) : 0, size = t.is_float() ? 16 : 32;
    switch (below(3)) {
      case 0: base = piece_; break;
      case 1: base = pen_->address_of(data_); break;
      default: base = slot_; break;
    }
    bool zero_scale = t.is_float();
    int64_t room = size - t.bytes();
    Value index;
    int64_t scale = 1, offset = zone;
    if (!zero_scale && chance(60)) {
      // index * scale stays within the zone
      static const int64_t scales[] = {1, 2, 4, 8, 3};
      scale = scales[below(5)];
      Value i = value(Type::integer(64));
      index = pen_->write(Op::And, {i, f_->constant(Type::integer(64), scale == 8 ? 1 : 3)});
      offset +=
          static_cast<int64_t>(below(static_cast<size_t>(room - scale * 3 + 1) > 24
                                         ? 1
                                         : static_cast<size_t>(std::max<int64_t>(room - scale * 3 + 1, 1))));
      if (offset + scale * (scale == 8 ? 1 : 3) > room) offset = 0;
    } else {
      offset += static_cast<int64_t>(t.is_float() ? below(static_cast<size_t>(size / t.bytes())) * t.bytes()
                                                  : below(static_cast<size_t>(room + 1)));
    }
    if (chance(25)) base = pen_->at(base, {}, 1, offset), offset = 0;
    if (chance(50))
      keep(pen_->load(t, base, index, scale, offset));
    else
      pen_->store(canonical(value(t)), base, index, scale, offset);
  }

  void call() {
    if (functions_.empty() || !calls_left_) return;
    --calls_left_;
    Symbol callee = functions_[below(functions_.size())];
    const Signature& s = module_.function(callee).signature();
    std::vector<Value> arguments{piece_};
    for (size_t k = 1; k < s.parameters.size(); ++k) arguments.push_back(value(s.parameters[k]));
    for (Value v : pen_->call(callee, arguments)) keep(v);
  }

  void leave() {
    std::vector<Value> results;
    for (Type t : f_->signature().results) results.push_back(value(t));
    pen_->put({.op = Op::Return, .operands = results});
  }

  // Goes to `to` with values for its parameters.
  void go(Block to) {
    std::vector<Value> arguments;
    for (Value p : f_->parameters(to)) arguments.push_back(value(f_->type(p)));
    Function::Draft::Target target{to, arguments};
    pen_->put({.op = Op::Go, .targets = {&target, 1}});
  }

  void branch(int depth) {
    Block yes = f_->add_block(), no = chance(80) ? f_->add_block() : Block(), join = f_->add_block();
    size_t joined = below(4);
    for (size_t k = 0; k < joined; ++k) f_->add_parameter(join, any_type());
    Value condition = value(Type::boolean());
    std::vector<Value> over;
    for (Value p : f_->parameters(join)) over.push_back(value(f_->type(p)));
    Function::Draft::Target targets[] = {{yes, {}}, {no.exists() ? no : join, {}}};
    if (!no.exists()) targets[1].arguments = over;
    pen_->put({.op = Op::When, .operands = {&condition, 1}, .targets = targets});
    size_t outer = scope_.size();
    for (Block arm : {yes, no}) {
      if (!arm.exists()) continue;
      pen_->at_end(arm);
      statements(depth - 1);
      if (arm == yes && chance(6))
        leave();
      else if (arm == yes && chance(1))
        pen_->trap();
      else
        go(join);
      scope_.resize(outer);
    }
    pen_->at_end(join);
    for (Value p : f_->parameters(join)) keep(p);
  }

  void loop(int depth) {
    Block head = f_->add_block(), out = f_->add_block();
    Type i64 = Type::integer(64);
    Value i = f_->add_parameter(head, i64);
    std::vector<Value> carried;
    for (size_t k = below(4); k-- > 0;) carried.push_back(f_->add_parameter(head, any_type()));
    std::vector<Value> first{f_->constant(i64, 0)};
    for (Value c : carried) first.push_back(value(f_->type(c)));
    Function::Draft::Target in{head, first};
    pen_->put({.op = Op::Go, .targets = {&in, 1}});
    size_t outer = scope_.size();
    pen_->at_end(head);
    keep(i);
    for (Value c : carried) keep(c);
    statements(depth - 1);
    Value i2 = pen_->add(i, f_->constant(i64, 1));
    std::vector<Value> next{i2};
    for (Value c : carried) next.push_back(value(f_->type(c)));
    Value more = pen_->write(Op::LtS, {i2, f_->constant(i64, 1 + below(5))});
    Value result = value(any_type());
    if (!f_->is_constant(result)) f_->add_parameter(out, f_->type(result));
    std::vector<Value> leaving;
    if (!f_->is_constant(result)) leaving.push_back(result);
    Function::Draft::Target targets[] = {{head, next}, {out, leaving}};
    pen_->put({.op = Op::When, .operands = {&more, 1}, .targets = targets});
    scope_.resize(outer);
    pen_->at_end(out);
    for (Value p : f_->parameters(out)) keep(p);
  }

  void statements(int depth) {
    size_t count = 1 + below(depth > 1 ? 14 : 7);
    for (size_t k = 0; k < count; ++k) {
      size_t what = below(100);
      if (what < 8 && depth > 0)
        branch(depth);
      else if (what < 13 && depth > 0)
        loop(depth);
      else if (what < 16)
        call();
      else if (what < 34)
        memory_operation();
      else
        plain_operation();
    }
  }

  void make_function(bool last) {
    Signature s{{Type::pointer()}, {}};
    for (size_t k = below(last ? 10 : 7); k-- > 0;) s.parameters.push_back(any_type());
    if (chance(10))
      for (int k = 0; k < 9; ++k) s.parameters.push_back(any_type());
    s.results.push_back(any_type());
    if (chance(25)) s.results.push_back(any_type());
    Symbol symbol = module_.add_function("f" + std::to_string(functions_.size()), s);
    f_ = &module_.function(symbol);
    Pen pen(module_, *f_);
    pen_ = &pen;
    scope_.clear();
    for (Value p : f_->parameters())
      if (!f_->type(p).is_pointer()) keep(p);
    piece_ = f_->parameters()[0];
    pen.at_end(f_->add_block());
    slot_ = pen.reserve(piece_bytes, 8);
    // Fresh bytes are a choice; give them one value.
    for (int k = 0; k < piece_bytes; k += 8)
      pen.store(f_->constant(Type::integer(64), static_cast<uint64_t>(k)), slot_, {}, 1, k);
    promotable();
    calls_left_ = 3;
    statements(3);
    leave();
    functions_.push_back(symbol);
  }

  // A slot of its own for promote to find.
  void promotable() {
    Type t = any_type();
    Value slot = pen_->reserve(t.bytes(), t.bytes());
    pen_->store(canonical(value(t)), slot);
    Block yes = f_->add_block(), join = f_->add_block();
    pen_->when(value(Type::boolean()), yes, {}, join, {});
    pen_->at_end(yes);
    pen_->store(canonical(value(t)), slot);
    pen_->go(join);
    pen_->at_end(join);
    keep(pen_->load(t, slot));
  }

  std::mt19937_64 random_;
  Module module_;
  Symbol data_;
  std::vector<Symbol> functions_;
  Function* f_ = nullptr;
  Pen* pen_ = nullptr;
  std::vector<Value> scope_;
  Value piece_, slot_;
  int calls_left_ = 0;
};

}  // namespace porphyry::testing
