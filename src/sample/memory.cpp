// Accesses, blocks of memory, and calls. All memory is written before it is read.
#include "maker.h"

namespace porphyry::sample {

Maker::Region Maker::any_region() {
  switch (below(3)) {
    case 0: return {piece_, 1};
    case 1: return {pen_->address_of(items_.store), 64};
    default: return {slot_, 16};
  }
}

// A frame object of a piece's size, all of it written.
Value Maker::filled_reserve() {
  Value slot = pen_->reserve(Sample::piece_bytes, 16);
  pen_->fill(constant(Type::integer(8)), slot, number(module_.index_type(), Sample::piece_bytes));
  return slot;
}

// A slot that is written on two ways and read where they meet, for passes that make values of slots.
void Maker::promotable() {
  Type t = small_type();
  Value slot = pen_->reserve(t.bytes(), 8);
  pen_->store(canonical(value(t)), slot);
  Block yes = f_->add_block(), join = f_->add_block();
  pen_->when(value(Type::boolean()), yes, {}, join, {});
  pen_->at_end(yes);
  pen_->store(canonical(value(t)), slot);
  pen_->go(join);
  pen_->at_end(join);
  keep(pen_->load(t, slot));
}

// A type that leaves room around it in a piece of memory.
Type Maker::small_type() {
  Type t = any_type();
  while (t.bytes() > 64) t = fresh_type();
  return t;
}

void Maker::memory_operation() {
  Type t = small_type();
  Region r = any_region();
  if (t.has_lanes() && !t.is_bool() && chance(30)) return masked_access(r);
  Type index_type = module_.index_type();
  Address a;
  Value operands[2] = {r.base, {}};
  int64_t room = static_cast<int64_t>(Sample::piece_bytes - t.bytes());
  if (chance(60)) {
    static const int64_t scales[] = {1, 2, 4, 8, 3, 12};
    a.indexed = true;
    a.scale = scales[below(6)];
    operands[1] = pen_->write(Op::And, {value(index_type), number(index_type, 3)});
    room -= 3 * a.scale;
  }
  a.offset = static_cast<int64_t>(below(static_cast<size_t>(room) + 1));
  if (!a.indexed && r.align > 1 && chance(30)) {
    a.align = std::min(r.align, 16u);
    a.offset &= -int64_t(a.align);
  }
  if (chance(25)) {
    operands[0] = pen_->at(operands[0], operands[1], a.scale, a.offset);
    a.indexed = false, a.scale = 1, a.offset = 0;
  }
  a.is_volatile = chance(10);
  a.guarded = chance(10);
  std::span<const Value> list(operands, a.indexed ? 2 : 1);
  if (chance(50)) {
    a.early = chance(5);
    keep(pen_->load(t, a, list));
  } else {
    pen_->store(canonical(value(t)), a, list);
  }
}

void Maker::masked_access(const Region& r) {
  Type t = small_type();
  while (!t.has_lanes() || t.is_bool()) t = Type::integer(16).with_lanes(4);
  Address a;
  a.masked = true;
  a.offset = static_cast<int64_t>(below(Sample::piece_bytes - t.bytes() + 1));
  Value operands[] = {r.base, value(Type::boolean().with_lanes(t.lanes())), value(t)};
  if (chance(50))
    keep(pen_->load(t, a, operands));
  else
    pen_->store(canonical(value(t)), a, std::span<const Value>(operands, 2));
}

void Maker::block_operation() {
  Type index = module_.index_type();
  Value bytes = pen_->write(Op::And, {value(index), number(index, 127)});
  auto somewhere = [&](Value base) { return pen_->at(base, {}, 1, static_cast<int64_t>(below(128))); };
  Region to = any_region(), from = any_region();
  if (chance(50)) {
    pen_->fill(value(Type::integer(8)), somewhere(to.base), bytes);
  } else if (chance(50)) {
    pen_->copy(somewhere(to.base), somewhere(from.base), bytes);
  } else {
    CopyShape shape{{.offset = static_cast<int64_t>(below(64))}, {.scale = 2, .offset = 3, .indexed = true}};
    Value i = pen_->write(Op::And, {value(index), number(index, 15)});
    Value operands[] = {to.base, from.base, i, bytes};
    pen_->put({.op = Op::Copy, .operands = operands, .detail = f_->add_copy(shape)});
  }
}

// Members of the night's readings: each place always as the same member, however it is named.
void Maker::kinded_access() {
  if (chance(15)) {  // what nobody writes
    Address a{.offset = static_cast<int64_t>(4 * below(4)), .kind = items_.paths[9], .as_unwritten = true};
    a.align = module_.kinds.align(a.kind);
    Value base = pen_->address_of(items_.limits);
    keep(pen_->load(Type::integer(32), a, {&base, 1}));
    return;
  }
  size_t which = below(2), member = below(3);
  Type t = member == 0 ? Type::integer(32) : Type::f32();
  Address a{.offset = static_cast<int64_t>(16 * which + 4 * member)};
  switch (below(5)) {
    case 0: a.kind = items_.paths[3 * which + member]; break;
    case 1: a.kind = items_.paths[6 + member]; break;
    case 2: a.kind = items_.paths[member == 0 ? 9 : 10]; break;
    case 3: a.kind = items_.paths[11]; break;
    default: break;
  }
  a.align = module_.kinds.align(a.kind);
  Value base = pen_->address_of(items_.night);
  if (chance(50))
    keep(pen_->load(t, a, {&base, 1}));
  else
    pen_->store(canonical(value(t)), a, {&base, 1});
}

// An object that is made, used and given back within the statement, or a stretch of `sole`.
void Maker::passing_object() {
  Type t = small_type();
  Value p = pen_->reserve(128, 16);
  Value bytes = number(module_.index_type(), 128);
  pen_->fill(constant(Type::integer(8)), p, bytes);
  if (chance(50)) {
    pen_->store(canonical(value(t)), p);
    pen_->renew(p, bytes);
    pen_->fill(constant(Type::integer(8)), p, bytes);
  }
  bool sole = chance(60);
  Value q = sole ? pen_->sole(p) : p;
  pen_->store(canonical(value(t)), q);
  keep(pen_->load(t, q));
  if (sole) pen_->end_sole(q);
  keep(pen_->load(Type::integer(8), p));
  keep(pen_->write(Op::Eq, {p, q}));
  pen_->release(p);
}

// ---- calls ------------------------------------------------------------------------------------------------

void Maker::call() {
  if (!calls_left_ || loops_around_ > 1) return;
  --calls_left_;
  if (functions_.empty() || chance(20)) {
    Value depth = pen_->write(Op::And, {value(Type::integer(8)), number(Type::integer(8), 15)});
    keep(pen_->call(items_.recursive, {depth, value(Type::integer(64))})[0]);
    return;
  }
  Symbol callee = functions_[below(functions_.size())];
  const Signature& s = module_.function(callee).signature();
  std::vector<Value> arguments{piece_};
  for (size_t k = 1; k < s.parameters.size(); ++k) arguments.push_back(value(s.parameters[k]));
  for (Value v : pen_->call(callee, arguments)) keep(v);
}

void Maker::call_through() {
  Type i64 = Type::integer(64);
  if (items_.twins.empty()) return;
  Value p = pen_->pick(value(Type::boolean()), pen_->address_of(items_.twins[0]),
                       pen_->address_of(items_.twins[1]));
  Value arguments[] = {value(i64)};
  keep(pen_->call_through(p, arguments, {&i64, 1})[0]);
}

// Two objects that the callee reaches each through its own parameter only.
void Maker::call_apart() {
  Value to = filled_reserve(), from = filled_reserve();
  Type index = module_.index_type();
  Value n = pen_->write(Op::And, {value(index), number(index, 7)});
  keep(pen_->call(items_.apart, {to, from, n})[0]);
}

// func apart(to: ptr sole, from: ptr sole const, n) adds up and copies over; and two small functions of one
// signature.
void Maker::make_apart() {
  Type ptr = module_.pointer_type(), index = module_.index_type(), i64 = Type::integer(64);
  items_.apart = module_.add_function("apart", {{ptr, ptr, index}, {i64}});
  module_[items_.apart].facts.marks = {mark::sole, mark::sole | mark::unwritten};
  Function& f = module_.function(items_.apart);
  Pen pen(module_, f);
  Block enter = f.add_block(), loop = f.add_block(), out = f.add_block();
  Value i = f.add_parameter(loop, index), sum = f.add_parameter(loop, i64);
  pen.at_end(enter).go(loop, {f.constant(index, 0), f.constant(i64, 0)});
  pen.at_end(loop);
  Value v = pen.load(i64, f.parameters()[1], i, 8);
  pen.store(pen.add(v, sum), f.parameters()[0], i, 8);
  Value next = pen.add(sum, pen.load(i64, f.parameters()[0], i, 8)), i2 = pen.add(i, f.constant(index, 1));
  pen.when(pen.write(Op::LtU, {i2, f.parameters()[2]}), loop, {i2, next}, out, {});
  pen.at_end(out);
  pen.return_values({next});
  for (const char* name : {"twin_a", "twin_b"}) {
    items_.twins.push_back(module_.add_function(name, {{i64}, {i64}}));
    Function& g = module_.function(items_.twins.back());
    Pen p(module_, g);
    p.at_end(g.add_block());
    Value x = p.mul(g.parameters()[0], g.constant(i64, 3 + items_.twins.size()));
    if (items_.twins.size() == 1) {
      p.return_values({x});
    } else {  // by way of the other
      Value arguments[] = {p.address_of(items_.twins[0]), x};
      p.put({.op = Op::ReturnCallThrough, .operands = arguments});
    }
  }
}

// Calls itself at most fifteen times.
void Maker::make_recursive() {
  Type i8 = Type::integer(8), i64 = Type::integer(64);
  items_.recursive = module_.add_function("down", {{i8, i64}, {i64}});
  Function& f = module_.function(items_.recursive);
  Pen pen(module_, f);
  Block enter = f.add_block(), deeper = f.add_block(), out = f.add_block();
  pen.at_end(enter);
  pen.when(pen.write(Op::LeS, {f.parameters()[0], f.constant(i8, 0)}), out, {}, deeper, {});
  pen.at_end(deeper);
  Value less = pen.sub(f.parameters()[0], f.constant(i8, 1));
  Value mixed = pen.write(Op::RotL, {f.parameters()[1], f.constant(i64, 7)});
  Value inner = pen.call(items_.recursive, {less, mixed})[0];
  pen.return_values({pen.write(Op::Xor, {inner, f.parameters()[1]})});
  pen.at_end(out);
  pen.return_values({f.parameters()[1]});
}

}  // namespace porphyry::sample
