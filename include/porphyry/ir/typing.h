// The type rules of operations, in one place for the reader, the pen and the verifier.
#pragma once

#include <optional>
#include <span>
#include <string>

#include "porphyry/ir/address.h"
#include "porphyry/ir/operations.h"

namespace porphyry {

struct TypingProblem {
  int operand = -1;  // which operand is wrong; -1: the instruction as a whole
  std::string message;
  std::string expected;
};

// What an instruction's operands mean beyond their order.
struct OperandForm {
  const Address* address = nullptr;  // load, store, at, fill; of a copy the one written to
  const Address* from = nullptr;     // copy
};

// The roles of an instruction's operands, one by one: addresses taken apart into the operands that they have.
class OperandRoles {
 public:
  size_t size() const { return size_; }
  OperandRole operator[](size_t k) const { return roles_[k]; }
  const OperandRole* begin() const { return roles_; }
  const OperandRole* end() const { return roles_ + size_; }
  // There are more, or others: their types come from elsewhere (arguments, results of a return).
  bool open() const { return open_; }
  void add(OperandRole r) { roles_[size_++] = r; }
  void leave_open() { open_ = true; }

 private:
  OperandRole roles_[12];
  uint8_t size_ = 0;
  bool open_ = false;
};
OperandRoles roles_of(Op op, const OperandForm& form = {});

// The types of the results of any operation but a call; `stated` is the type that stands behind the
// operation, for `shuffle` that of its result, for `reserve` and `address` the module's pointer. Gives their
// number, at most two. The operands must have been found right.
unsigned result_types(Op op, std::span<const Type> operands, Type stated, Type out[2]);

// Checks operand types, and the result types unless `results` is empty, of one instruction other than a call,
// a return or an edge's arguments, whose types come from elsewhere.
std::optional<TypingProblem> typing_problem(Op op, std::span<const Type> operands,
                                            std::span<const Type> results, const OperandForm& form = {});

// "an integer or a float", for an operation's operands.
std::string accepted_shapes(Op op);

}  // namespace porphyry
