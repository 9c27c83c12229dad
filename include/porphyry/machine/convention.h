// Where a calling convention puts parameters and results.
#pragma once

#include <optional>
#include <vector>

#include "porphyry/machine/code.h"

namespace porphyry::machine {

struct Arrival {
  Register reg = no_register;
  uint64_t stack = 0;  // offset among the stack's arguments, when there is no register
};

// One for each type; `stack_bytes` grows by the space that arguments on the stack take.
std::vector<Arrival> arrivals(const Convention& convention, std::span<const Type> types,
                              uint64_t& stack_bytes);

// Nothing when there are more results than registers for them.
std::optional<std::vector<Register>> result_registers(const Convention& convention,
                                                      std::span<const Type> types);

}  // namespace porphyry::machine
