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

// What an argument of a register's type takes on the stack, at a multiple of as much.
uint64_t bytes_on_stack(const Convention& convention, Type t);

// One for each type; `stack_bytes` grows by the space that arguments on the stack take.
std::pmr::vector<Arrival> arrivals(const Convention& convention, std::span<const Type> types,
                                   uint64_t& stack_bytes,
                                   std::pmr::memory_resource* memory = std::pmr::get_default_resource());

// Nothing when there are more results than registers for them.
std::optional<std::pmr::vector<Register>> result_registers(
    const Convention& convention, std::span<const Type> types,
    std::pmr::memory_resource* memory = std::pmr::get_default_resource());

}  // namespace porphyry::machine
