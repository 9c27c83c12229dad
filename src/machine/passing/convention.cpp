#include "porphyry/machine/convention.h"
#include "porphyry/base/rounding.h"

namespace porphyry::machine {
namespace {

// Hands out registers of two lists in order.
class Dealer {
 public:
  Dealer(std::span<const uint8_t> whole, std::span<const uint8_t> floats) : lists_{whole, floats} {}
  Register next(Type t) {
    size_t which = t.is_float() ? 1 : 0;
    return used_[which] < lists_[which].size() ? lists_[which][used_[which]++] : no_register;
  }

 private:
  std::span<const uint8_t> lists_[2];
  size_t used_[2] = {0, 0};
};

}  // namespace

// Floats are spilled there by the instructions that spill registers.
uint64_t bytes_on_stack(const Convention& convention, Type t) {
  return t.has_lanes() ? t.bytes() : t.is_float() ? 8 : convention.word_bits / 8u;
}

std::pmr::vector<Arrival> arrivals(const Convention& convention, std::span<const Type> types,
                                   uint64_t& stack_bytes, std::pmr::memory_resource* memory) {
  Dealer dealer(convention.whole, convention.floats);
  std::pmr::vector<Arrival> out(memory);
  out.reserve(types.size());
  for (Type t : types) {
    out.push_back({dealer.next(t), 0});
    if (out.back().reg != no_register) continue;
    uint64_t bytes = bytes_on_stack(convention, t);
    stack_bytes = round_up<uint64_t>(stack_bytes, bytes);
    out.back().stack = stack_bytes;
    stack_bytes += bytes;
  }
  return out;
}

std::optional<std::pmr::vector<Register>> result_registers(const Convention& convention,
                                                           std::span<const Type> types,
                                                           std::pmr::memory_resource* memory) {
  Dealer dealer(convention.whole_results, convention.float_results);
  std::pmr::vector<Register> out(memory);
  out.reserve(types.size());
  for (Type t : types) {
    out.push_back(dealer.next(t));
    if (out.back() == no_register) return std::nullopt;
  }
  return out;
}

}  // namespace porphyry::machine
