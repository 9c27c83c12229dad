#include "constants.h"

#include "porphyry/ir/compute.h"

namespace porphyry::machine {
namespace {

// A constant of a scalar or of lanes as it lies in memory.
template <class Lane>
PoolEntry side_by_side(Type t, Lane lane) {
  Bits all = 0;
  for (unsigned k = 0; k < t.lanes(); ++k) all |= (lane(k) & mask_of(t.bits())) << (k * t.bits());
  return {static_cast<uint64_t>(all), static_cast<uint8_t>(t.bytes()), static_cast<uint64_t>(all >> 64), t};
}

// The lane that comes to a place; where both values are one, by its number in that.
unsigned lane_taken(const Function& f, Instruction shuffle, unsigned place) {
  unsigned lane = f.shuffle_lane(shuffle, place);
  bool one_value = f.operand(shuffle, 0) == f.operand(shuffle, 1);
  return one_value ? lane % f.type(f.operand(shuffle, 0)).lanes() : lane;
}

}  // namespace

uint32_t ConstantPool::of(Value constant) {
  if (of_values_.empty()) of_values_.make(f_.value_limit());
  uint32_t& row = of_values_[constant];
  if (row == 0) {
    out_.push_back(
        side_by_side(f_.type(constant), [&](unsigned lane) { return f_.constant_word(constant, lane); }));
    row = static_cast<uint32_t>(out_.size());
  }
  return row - 1;
}

uint32_t ConstantPool::of(const PoolEntry& entry) {
  for (uint32_t row : others_)
    if (out_[row] == entry) return row;
  out_.push_back(entry);
  others_.push_back(static_cast<uint32_t>(out_.size() - 1));
  return others_.back();
}

PoolEntry repeated(Type t, Bits number) {
  return side_by_side(t, [&](unsigned) { return number; });
}

PoolEntry shuffled_bytes(const Function& f, Instruction shuffle, bool second) {
  Type t = f.type(f.result(shuffle));
  unsigned size = t.element_bytes();
  return side_by_side(Type::integer(8).with_lanes(t.bytes()), [&](unsigned at) {
    unsigned lane = lane_taken(f, shuffle, at / size), from = second ? lane - t.lanes() : lane;
    return Bits(from < t.lanes() ? from * size + at % size : 128);
  });
}

int64_t shuffled_order(const Function& f, Instruction shuffle) {
  Type t = f.type(f.result(shuffle));
  unsigned each = t.element_bytes() / 4;
  int64_t order = 0;
  for (unsigned at = 0; at < 4; ++at)
    order |= int64_t(lane_taken(f, shuffle, at / each) * each + at % each) << (2 * at);
  return order;
}

}  // namespace porphyry::machine
