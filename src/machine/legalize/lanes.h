// The step `lanes`: values with lanes become registers full of lanes where the book covers what is done to
// them, the last one padded, and scalars where it does not. Five files: which operation goes which way and
// what moves lanes about (lanes.cpp), arithmetic, comparisons and conversions (lane_operations.cpp), shifts
// and counts of bits (lane_bits.cpp), products (lane_products.cpp), memory (lane_memory.cpp).
//
// What the convention passes in a register wide enough for 16 bytes stays of type f64[2] right where it
// arrives or leaves: see signatures.cpp.
#pragma once

#include <functional>

#include "lane_views.h"

namespace porphyry::machine {

class LaneCutter final : public Splitter {
 public:
  LaneCutter(Module& module, Function& f, const Coverage& coverage);

 private:
  using Splitter::goes;
  bool goes(Type t) const override { return t.has_lanes() && t != views_.whole(t); }
  bool concerns(Type t) const override { return t.has_lanes(); }
  bool touched(Instruction i) const override;
  std::vector<Type> parts_of(Type t) const override;
  Parts parts_of_constant(Value v) override { return passed(v); }
  Parts parts(Value v) override { return goes(v) ? passed(v) : Parts{v}; }
  void became(Value v, const Parts& parts) override;
  void function_parameter(Value) override { assert(false && "signatures are legal by now"); }
  void instruction(Instruction i) override;

  // How a value of the type passes from block to block, and is made of its scalars at the latest.
  bool passes_masks(Type t) const { return t.is_bool() && masks_; }
  Parts passed(Value v);

  // What a result is now.
  void now_chunks(Value v, Parts chunks);
  void now_scalars(Value v, Parts scalars);
  void now_masks(Value v, unsigned width, Parts masks);
  bool all_scalars(Instruction i) const;  // none of the operands with lanes is at hand in registers

  // lanes.cpp
  void splat(Instruction i);
  void lane(Instruction i);
  void put(Instruction i);
  void shuffle(Instruction i, std::span<const uint16_t> order);
  void interleave(Instruction i);
  void reduce(Instruction i);
  bool reduce_chunks(Instruction i, Op join);
  Value all_in_one(Parts chunks, Op join, uint8_t permits);
  bool shuffle_chunks(Instruction i, Type w, std::span<const uint16_t> order);
  Value gathered_chunk(const Parts& from, Type w, std::span<const uint16_t> order);
  Value shuffled(Value a, Value b, std::span<const uint16_t> order);
  Value modulo(Value index, unsigned lanes);
  bool reachable(Value index, unsigned lane) const { return lane <= mask_of(f_.type(index).bits()); }
  Value in_memory(const Parts& chunks);

  // lane_operations.cpp
  void plain(Instruction i);
  void lane_by_lane(Instruction i);
  void chunk_by_chunk(Instruction i, Type w, Type result);
  void logic(Instruction i);
  void pick(Instruction i);
  void compare(Instruction i);
  bool is_direct(Op op, Type w) const;
  bool compares_halves(Type w) const;
  Value greater_by_halves(Value a, Value b);
  bool maskable(Op op, Type w) const;
  Value mask(Op op, Value a, Value b);
  Value chosen(Value mask, Value a, Value b);
  bool by_comparison(Instruction i, Type w);
  bool other_ways(Instruction i, Type w);
  bool each_chunk(Instruction i, const std::function<Value(Value)>& make);
  bool each_pair(Instruction i, const std::function<Value(Value, Value)>& make);
  void convert(Instruction i);
  bool convert_chunks(Instruction i, Type from, Type to);
  bool convert_whole(Instruction i, Type from, Type to);
  bool convert_float(Instruction i, Type from, Type to);
  Value float_of_halves(Value x, Type to);
  void bits(Instruction i);
  bool bits_by_chunks(Instruction i, Type from, Type to);
  Value gathered(const Parts& in, unsigned width, unsigned start, Type to);

  // lane_bits.cpp
  Type shifted_as(Op op, Type w) const;
  bool may_shift(Op op, Type w) const;
  Value shifted(Op op, Value x, unsigned by);
  Value turned(Op op, Value x, unsigned by);
  Value turned_by_bytes(Value x, unsigned left);
  bool shift(Instruction i, Type w);
  bool shift_by_one_amount(Instruction i, Type w);
  Value turned_by_bits(Op op, Value x, Value by);
  Value counted(Value x);
  bool count_bits(Instruction i, Type w);
  bool reverse_bytes(Instruction i, Type w);

  // lane_products.cpp
  bool product(Instruction i, Type w);
  Value times(Value x, Value y, bool with_signs);
  Value long_product(Value a, Value b);
  Value product_as(Type wide, Value a, Value b);
  bool high_product(Instruction i, Type w);
  struct Halves {
    Value low;                          // lanes whose lower halves are those asked for
    bool zeros = false, signs = false;  // of the upper halves, where they are known to be that
  };
  Halves halves(Value v);
  Halves widened_halves(Value v);
  bool is_sign_of(Value v, Value lanes) const;

  // lane_memory.cpp
  struct Access {
    std::vector<Value> operands;  // of the address
    Address address;
    Value mask;
    Parts flags;
  };
  Access access_of(Instruction i);
  // Lanes whose mask is off touch a byte of the frame instead: no branch is needed.
  struct Masked {
    std::vector<Value> operands;
    Address address;
  };
  Masked masked(const Access& a, size_t lane, int64_t offset);
  Value nowhere();
  void load(Instruction i);
  void load_chunks(Instruction i, const Access& a, Type w);
  Value load_chunk(const Access& a, int64_t at, Type w, unsigned lanes);
  unsigned byte_place(unsigned at, Type bools) const;
  void load_bools(Instruction i, const Access& a);
  void store(Instruction i);
  void store_chunk(Value chunk, const Access& a, int64_t at, unsigned lanes);
  void store_bools(Value v, const Access& a);

  const Coverage& coverage_;
  LaneViews views_;
  bool masks_;  // of every width, and from one to another
  Type pointer_;
  Value nowhere_;
  std::map<size_t, Value> rooms_;  // by chunks
};

}  // namespace porphyry::machine
