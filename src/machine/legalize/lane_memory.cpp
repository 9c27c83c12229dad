// Loads and stores of lanes.
#include <bit>

#include "access_pieces.h"
#include "lanes.h"

namespace porphyry::machine {

LaneCutter::Access LaneCutter::access_of(Instruction i) {
  Access a{.address = f_.address(i)};
  size_t at = f_.op(i) == Op::Store ? 1 : 0;
  for (unsigned k = 0; k < a.address.operand_count(); ++k) a.operands.push_back(f_.operand(i, at++));
  if (a.address.masked) a.flags = views_.scalars(a.mask = f_.operand(i, at));
  a.address.masked = false;
  return a;
}

LaneCutter::Masked LaneCutter::masked(const Access& a, size_t lane, int64_t offset) {
  Address moved_address = moved(a.address, offset);
  if (a.flags.empty()) return {a.operands, moved_address};
  if (f_.is_constant(a.flags[lane]) && f_.constant_bits(a.flags[lane])) return {a.operands, moved_address};
  Address plain{.scale = moved_address.scale, .offset = moved_address.offset, .indexed = a.address.indexed};
  Value there = f_.result(pen_.put(
      {.op = Op::At, .operands = a.operands, .results = {&pointer_, 1}, .detail = f_.add_address(plain)}));
  return {{pen_.pick(a.flags[lane], there, nowhere())},
          {.is_volatile = a.address.is_volatile, .early = a.address.early, .guarded = a.address.guarded}};
}

// Sixteen bytes, as many as any element takes.
Value LaneCutter::nowhere() {
  if (!nowhere_.exists()) {
    Instruction first = f_.first(f_.entry());
    nowhere_ = f_.result(f_.insert_before(
        first, {.op = Op::Reserve, .results = {&pointer_, 1}, .detail = f_.add_reserve({16, 16})}));
    for (int64_t at : {0, 8}) {
      Value operands[] = {f_.constant(Type::integer(64), 0), nowhere_};
      f_.insert_before(first,
                       {.op = Op::Store, .operands = operands, .detail = f_.add_address({.offset = at})});
    }
  }
  return nowhere_;
}

void LaneCutter::load(Instruction i) {
  Type t = f_.type(f_.result(i)), element = t.element(), w = views_.whole(t);
  Access a = access_of(i);
  if (t.is_bool()) return load_bools(i, a);
  bool was_masked = !a.flags.empty();
  if (w.exists() && !was_masked) return load_chunks(i, a, w);
  Parts inactive, out;
  if (was_masked) inactive = views_.scalars(f_.operand(i, f_.operand_count(i) - 1));
  for (unsigned k = 0; k < t.lanes(); ++k) {
    if (was_masked && f_.is_constant(a.flags[k]) && !f_.constant_bits(a.flags[k])) {
      out.push_back(inactive[k]);
      continue;
    }
    Masked m = masked(a, k, int64_t(k) * element.bytes());
    Value v = pen_.load(element, m.address, m.operands);
    out.push_back(was_masked ? pen_.pick(a.flags[k], v, inactive[k]) : v);
  }
  now_scalars(f_.result(i), out);
}

void LaneCutter::load_chunks(Instruction i, const Access& a, Type w) {
  Type t = f_.type(f_.result(i));
  Parts out;
  for (unsigned from = 0; from < t.lanes(); from += w.lanes())
    out.push_back(load_chunk(a, int64_t(from) * w.element_bytes(), w, std::min(w.lanes(), t.lanes() - from)));
  now_chunks(f_.result(i), out);
}

// What does not fill a register comes in words and what is left of lanes.
Value LaneCutter::load_chunk(const Access& a, int64_t at, Type w, unsigned lanes) {
  if (lanes == w.lanes()) return pen_.load(w, moved(a.address, at), a.operands);
  unsigned size = w.element_bytes(), bytes = lanes * size, done = 0;
  Value v;
  for (unsigned piece : {8u, 4u}) {
    Type carried = views_.whole(piece == 8 ? Type::f64() : Type::f32());
    if (piece < size || bytes - done < piece || !carried.exists()) continue;
    Value x = pen_.load(carried.element(), moved(a.address, at + done), a.operands);
    v = !v.exists() ? pen_.convert(Op::Splat, carried, x)
                    : views_.put(pen_, views_.bits(pen_, v, carried), done / piece, x);
    done += piece;
  }
  if (v.exists()) v = views_.bits(pen_, v, w);
  for (; done < bytes; done += size) {
    Value x = pen_.load(w.element(), moved(a.address, at + done), a.operands);
    v = v.exists() ? views_.put(pen_, v, done / size, x) : pen_.convert(Op::Splat, w, x);
  }
  return v;
}

// Lanes of bool lie in memory as one integer.
void LaneCutter::load_bools(Instruction i, const Access& a) {
  Type t = f_.type(f_.result(i)), i8 = Type::integer(8);
  Parts out, bytes;
  for (unsigned at = 0; at < t.bytes(); ++at)
    bytes.push_back(pen_.load(i8, moved(a.address, byte_place(at, t)), a.operands));
  for (unsigned k = 0; k < t.lanes(); ++k)
    out.push_back(pen_.ne(pen_.and_(bytes[k / 8], Bits(1) << (k % 8)), Bits(0)));
  now_scalars(f_.result(i), out);
}

void LaneCutter::store(Instruction i) {
  Value v = f_.operand(i, 0);
  Type t = f_.type(v), element = t.element(), w = views_.whole(t);
  Access a = access_of(i);
  if (t.is_bool()) return store_bools(v, a);
  if (w.exists() && a.flags.empty() && (!views_.is_scalar(v) || f_.is_constant(v))) {
    Parts chunks = views_.chunks(v);
    for (size_t k = 0; k < chunks.size(); ++k)
      store_chunk(chunks[k], a, int64_t(k) * w.bytes(),
                  std::min(w.lanes(), t.lanes() - static_cast<unsigned>(k) * w.lanes()));
    return;
  }
  Parts from = views_.scalars(v);
  for (unsigned k = 0; k < t.lanes(); ++k) {
    if (!a.flags.empty() && f_.is_constant(a.flags[k]) && !f_.constant_bits(a.flags[k])) continue;
    Masked m = masked(a, k, int64_t(k) * element.bytes());
    pen_.store(from[k], m.address, m.operands);
  }
}

void LaneCutter::store_chunk(Value chunk, const Access& a, int64_t at, unsigned lanes) {
  Type w = pen_.type(chunk);
  if (lanes == w.lanes()) return pen_.store(chunk, moved(a.address, at), a.operands);
  unsigned size = w.element_bytes(), bytes = lanes * size, done = 0;
  for (unsigned piece : {8u, 4u}) {
    Type carried = views_.whole(piece == 8 ? Type::f64() : Type::f32());
    if (piece < size || bytes - done < piece || !carried.exists()) continue;
    Value x = views_.lane(pen_, views_.bits(pen_, chunk, carried), done / piece);
    pen_.store(x, moved(a.address, at + done), a.operands);
    done += piece;
  }
  for (; done < bytes; done += size)
    pen_.store(views_.lane(pen_, chunk, done / size), moved(a.address, at + done), a.operands);
}

void LaneCutter::store_bools(Value v, const Access& a) {
  Parts from = views_.scalars(v);
  Type t = f_.type(v);
  for (unsigned at = 0; at < t.bytes(); ++at)
    pen_.store(gathered(from, 1, at * 8, Type::integer(std::min(8u, std::max(2u, t.lanes() - at * 8)))),
               moved(a.address, byte_place(at, t)), a.operands);
}

// Where byte `at` of the integer lies that lanes of bool are.
unsigned LaneCutter::byte_place(unsigned at, Type bools) const {
  return pen_.module().layout.order == ByteOrder::Big ? bools.bytes() - 1 - at : at;
}

}  // namespace porphyry::machine
