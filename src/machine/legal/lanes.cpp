// Lanes as scalars, one value a lane.
//
// What convention passes in one register wide enough for 16 bytes stays of type f64[2] right where it arrives
// or leaves: see signatures.cpp.
#include <algorithm>

#include "parts.h"
#include "pieces.h"
#include "porphyry/ir/compute.h"
#include "steps.h"

namespace porphyry::machine {
namespace {

class LaneSplitter final : public Splitter {
 public:
  LaneSplitter(Module& module, Function& f) : Splitter(module, f) {}

 private:
  bool goes(Type t) const override { return t.has_lanes(); }
  using Splitter::goes;
  std::vector<Type> parts_of(Type t) const override {
    return t.has_lanes() ? std::vector<Type>(t.lanes(), t.element()) : std::vector<Type>();
  }

  Parts parts_of_constant(Value v) override {
    Parts out;
    for (unsigned k = 0; k < f_.type(v).lanes(); ++k)
      out.push_back(f_.constant(f_.type(v).element(), f_.constant_word(v, k)));
    return out;
  }

  void function_parameter(Value v) override { became(v, taken_apart(v)); }

  // A value that a register carried, as its lanes.
  Parts taken_apart(Value whole) {
    Parts out;
    Type element = f_.type(whole).element();
    for (unsigned k = 0; k < f_.type(whole).lanes(); ++k) {
      Value operands[] = {whole, f_.constant(Type::integer(64), k)};
      out.push_back(f_.result(pen_.put({.op = Op::Lane, .operands = operands, .results = {&element, 1}})));
    }
    return out;
  }
  Value put_together(Type type, const Parts& lanes) {
    Value v = f_.result(pen_.put({.op = Op::Splat, .operands = {&lanes[0], 1}, .results = {&type, 1}}));
    for (size_t k = 1; k < lanes.size(); ++k) {
      Value operands[] = {v, f_.constant(Type::integer(64), k), lanes[k]};
      v = f_.result(pen_.put({.op = Op::Put, .operands = operands, .results = {&type, 1}}));
    }
    return v;
  }

  void instruction(Instruction i) override {
    switch (info(f_.op(i)).layout) {
      case Layout::Splat: return became(f_.result(i), Parts(f_.type(f_.result(i)).lanes(), f_.operand(i, 0)));
      case Layout::Lane: return lane(i);
      case Layout::Put: return put(i);
      case Layout::Shuffle: return shuffle(i);
      case Layout::Interleave: return interleave(i);
      case Layout::Reduce: return reduce(i);
      case Layout::Load: return load(i);
      case Layout::Store: return store(i);
      case Layout::Call:
      case Layout::CallThrough:
      case Layout::Return: return boundary(i);
      default: return f_.op(i) == Op::Bits ? bits(i) : lane_by_lane(i);
    }
  }

  void lane_by_lane(Instruction i) {
    size_t results = f_.result_count(i), operands = f_.operand_count(i);
    unsigned lanes = f_.type(f_.result(i)).lanes();
    std::vector<Parts> out(results), in;
    for (size_t k = 0; k < operands; ++k) in.push_back(parts(f_.operand(i, k)));
    Value v[3];
    Type types[2];
    for (size_t k = 0; k < results; ++k) types[k] = f_.type(f_.result(i, k)).element();
    for (unsigned lane = 0; lane < lanes; ++lane) {
      for (size_t k = 0; k < operands; ++k) v[k] = in[k][in[k].size() == 1 ? 0 : lane];
      if (results == 1) {
        out[0].push_back(pen_.make(f_.op(i), {v, operands}, types[0], f_.promises(i), f_.permits(i)));
        continue;
      }
      Instruction made = pen_.put({.op = f_.op(i),
                                   .operands = {v, operands},
                                   .results = {types, results},
                                   .promises = f_.promises(i)});
      for (size_t k = 0; k < results; ++k) out[k].push_back(f_.result(made, k));
    }
    for (size_t k = 0; k < results; ++k) became(f_.result(i, k), out[k]);
  }

  // The number of a lane, which counts modulo the lanes.
  Value modulo(Value index, unsigned lanes) {
    Type t = f_.type(index);
    if (mask_of(t.bits()) < lanes) return index;
    if ((lanes & (lanes - 1)) == 0) return pen_.and_(index, Word(lanes - 1));
    return pen_.make(Op::RemU, {index, pen_.number(t, lanes)}, t, promise::nonzero);
  }
  bool reachable(Value index, unsigned lane) const { return lane <= mask_of(f_.type(index).bits()); }

  void lane(Instruction i) {
    Parts from = parts(f_.operand(i, 0));
    Value index = modulo(f_.operand(i, 1), static_cast<unsigned>(from.size()));
    Value v = from[0];
    for (unsigned k = 1; k < from.size() && reachable(index, k); ++k)
      v = pen_.pick(pen_.eq(index, pen_.number(f_.type(index), k)), from[k], v);
    replaced(f_.result(i), v);
  }

  void put(Instruction i) {
    Parts lanes = parts(f_.operand(i, 0));
    Value index = modulo(f_.operand(i, 1), static_cast<unsigned>(lanes.size())), v = f_.operand(i, 2);
    for (unsigned k = 0; k < lanes.size() && reachable(index, k); ++k)
      lanes[k] = pen_.pick(pen_.eq(index, pen_.number(f_.type(index), k)), v, lanes[k]);
    became(f_.result(i), lanes);
  }

  void shuffle(Instruction i) {
    Parts from = parts(f_.operand(i, 0)), more = parts(f_.operand(i, 1)), out;
    from.insert(from.end(), more.begin(), more.end());
    for (unsigned k = 0; k < f_.type(f_.result(i)).lanes(); ++k) out.push_back(from[f_.shuffle_lane(i, k)]);
    became(f_.result(i), out);
  }

  void interleave(Instruction i) {
    Parts a = parts(f_.operand(i, 0)), b = parts(f_.operand(i, 1)), out;
    for (size_t k = 0; k < a.size(); ++k) out.push_back(a[k]), out.push_back(b[k]);
    became(f_.result(i), out);
  }

  void reduce(Instruction i) {
    Parts from = parts(f_.operand(i, 0));
    Value v = from[0];
    for (size_t k = 1; k < from.size(); ++k)
      v = pen_.make(joining_op(f_.op(i)), {v, from[k]}, {}, 0, f_.permits(i));
    replaced(f_.result(i), v);
  }

  // Bits change hands by way of integers: each target lane is put together from the source lanes it meets.
  void bits(Instruction i) {
    Value from = f_.operand(i, 0), to = f_.result(i);
    Type a = f_.type(from), b = f_.type(to);
    Parts in = parts(from), out;
    for (Value& v : in)
      if (a.is_float()) v = pen_.bits(v, Type::integer(a.bits()));
    for (unsigned k = 0; k < b.lanes(); ++k) out.push_back(gathered(in, a.bits(), k * b.bits(), b));
    b.has_lanes() ? became(to, out) : replaced(to, out[0]);
  }

  Value gathered(const Parts& in, unsigned width, unsigned start, Type to) {
    Type whole = to.is_float() ? Type::integer(to.bits()) : to.element();
    Value sum;
    for (unsigned k = start / width; k * width < start + to.bits(); ++k) {
      Value v = in[k];
      bool is_bool = f_.type(v).is_bool();
      unsigned low = std::max(start, k * width) - k * width;  // the first bit of this lane that is wanted
      unsigned at = k * width + low - start;                  // and where it goes
      if (whole.is_bool()) {
        if (is_bool) return v;
        return pen_.ne(pen_.and_(pen_.shr_u(v, low), Word(1)), Word(0));
      }
      if (!is_bool && low) v = pen_.shr_u(v, low);
      v = is_bool ? pen_.widen_u(v, whole) : pen_.resized(v, whole);
      if (at) v = pen_.shl(v, at);
      sum = sum.exists() ? pen_.or_(sum, v) : v;
    }
    return to.is_float() ? pen_.bits(sum, to.element()) : sum;
  }

  // ---- memory ---------------------------------------------------------------------------------------------

  struct Access {
    std::vector<Value> operands;  // of the address
    Address address;
    Parts mask;
  };
  Access access_of(Instruction i) {
    Access a{.address = f_.address(i)};
    size_t at = f_.op(i) == Op::Store ? 1 : 0;
    for (unsigned k = 0; k < a.address.operand_count(); ++k) a.operands.push_back(f_.operand(i, at++));
    if (a.address.masked) a.mask = parts(f_.operand(i, at));
    a.address.masked = false;
    return a;
  }
  // Lanes whose mask is off touch a byte of the frame instead: no branch is needed.
  struct Masked {
    std::vector<Value> operands;
    Address address;
  };
  Masked masked(const Access& a, size_t lane, int64_t offset) {
    Address moved_address = moved(a.address, offset);
    if (a.mask.empty()) return {a.operands, moved_address};
    if (f_.is_constant(a.mask[lane]) && f_.constant_bits(a.mask[lane])) return {a.operands, moved_address};
    Address plain{.scale = moved_address.scale, .offset = moved_address.offset, .indexed = a.address.indexed};
    Value there = f_.result(pen_.put(
        {.op = Op::At, .operands = a.operands, .results = {&pointer_, 1}, .detail = f_.add_address(plain)}));
    return {{pen_.pick(a.mask[lane], there, nowhere())},
            {.is_volatile = a.address.is_volatile, .early = a.address.early}};
  }

  // Sixteen bytes, as many as any element takes.
  Value nowhere() {
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

  void load(Instruction i) {
    Type t = f_.type(f_.result(i)), element = t.element();
    Access a = access_of(i);
    if (t.is_bool()) return load_bools(i, a);
    bool was_masked = !a.mask.empty();
    Parts inactive, out;
    if (was_masked) inactive = parts(f_.operand(i, f_.operand_count(i) - 1));
    for (unsigned k = 0; k < t.lanes(); ++k) {
      if (was_masked && f_.is_constant(a.mask[k]) && !f_.constant_bits(a.mask[k])) {
        out.push_back(inactive[k]);
        continue;
      }
      Masked m = masked(a, k, int64_t(k) * element.bytes());
      Value v = pen_.load(element, m.address, m.operands);
      out.push_back(was_masked ? pen_.pick(a.mask[k], v, inactive[k]) : v);
    }
    became(f_.result(i), out);
  }

  // Lanes of bool lie in memory as one integer.
  void load_bools(Instruction i, const Access& a) {
    Type t = f_.type(f_.result(i)), i8 = Type::integer(8);
    Parts out, bytes;
    for (unsigned at = 0; at < t.bytes(); ++at)
      bytes.push_back(pen_.load(i8, moved(a.address, at), a.operands));
    for (unsigned k = 0; k < t.lanes(); ++k)
      out.push_back(pen_.ne(pen_.and_(bytes[k / 8], Word(1) << (k % 8)), Word(0)));
    became(f_.result(i), out);
  }

  void store(Instruction i) {
    Value v = f_.operand(i, 0);
    Type t = f_.type(v), element = t.element();
    Access a = access_of(i);
    Parts from = parts(v);
    if (t.is_bool()) {
      for (unsigned at = 0; at < t.bytes(); ++at)
        pen_.store(gathered(from, 1, at * 8, Type::integer(std::min(8u, std::max(2u, t.lanes() - at * 8)))),
                   moved(a.address, at), a.operands);
      return;
    }
    for (unsigned k = 0; k < t.lanes(); ++k) {
      if (!a.mask.empty() && f_.is_constant(a.mask[k]) && !f_.constant_bits(a.mask[k])) continue;
      Masked m = masked(a, k, int64_t(k) * element.bytes());
      pen_.store(from[k], m.address, m.operands);
    }
  }

  // ---- what the convention passes -------------------------------------------------------------------------

  void boundary(Instruction i) {
    std::vector<Value> operands;
    for (size_t k = 0; k < f_.operand_count(i); ++k) {
      Value v = f_.operand(i, k);
      operands.push_back(goes(v) ? put_together(f_.type(v), parts(v)) : v);
    }
    std::vector<Type> results;
    for (size_t k = 0; k < f_.result_count(i); ++k) results.push_back(f_.type(f_.result(i, k)));
    Instruction made =
        pen_.put({.op = f_.op(i), .operands = operands, .results = results, .detail = f_.detail(i)});
    for (size_t k = 0; k < results.size(); ++k) {
      Value old = f_.result(i, k), v = f_.result(made, k);
      if (goes(old)) {
        became(old, taken_apart(v));
      } else {
        replaced(old, v);
      }
    }
  }

  Type pointer_ = pen_.module().pointer_type();
  Value nowhere_;
};

}  // namespace

void lanes_to_scalars(Module& module, Function& f) { LaneSplitter(module, f).run(); }

}  // namespace porphyry::machine
