// Short pieces of code that are not compiled from the IR, put together from the instructions that a book
// names for the machine layer's own use.
#pragma once

#include <cstdint>
#include <vector>

#include "porphyry/machine/target.h"

namespace porphyry::jit {

class StubWriter {
 public:
  explicit StubWriter(const machine::Target& target) : target_(target) {}
  size_t size() const { return bytes_.size(); }
  const std::vector<uint8_t>& bytes() const { return bytes_; }

  // To an address, at any distance, by way of the scratch register.
  void jump_far(uint64_t address);
  // To where a word at a distance from this stub's start leads.
  void jump_through(int64_t word_from_start);
  // A number into the scratch register, then to a place at a distance from this stub's start.
  void jump_with(uint64_t number, int64_t to_from_start);
  // Calls `host(context, number in the scratch register)` with all argument registers kept, and jumps to what
  // it gives.
  void ask_and_jump(void* (*host)(void*, uint64_t), void* context);

 private:
  using Operand = machine::PlainOperand;
  void put(machine::FormIndex form, Operand a = {}, Operand b = {});
  static Operand reg(unsigned physical) {
    return {machine::OperandKind::Register, static_cast<uint8_t>(physical), 0, {}};
  }
  static Operand number(uint64_t v) {
    return {machine::OperandKind::Literal, 0, static_cast<int64_t>(v), {}};
  }
  Operand on_stack(int32_t offset) const;

  const machine::Target& target_;
  std::vector<uint8_t> bytes_;
};

}  // namespace porphyry::jit
