#include "porphyry/ir/typing.h"

#include "porphyry/base/diagnostics.h"

namespace porphyry {
namespace {

using Problem = std::optional<TypingProblem>;

Problem wrong_operand(Op op, int k, Type is, std::string expected) {
  return TypingProblem{k, "'" + std::string(info(op).name) + "' does not take " + is.name() + " here",
                       std::move(expected)};
}

Problem same_operands(Op op, std::span<const Type> operands, size_t from) {
  const OperationInfo& row = info(op);
  for (size_t k = from; k < operands.size(); ++k) {
    if (!row.accepts_shape(operands[k].shape()))
      return wrong_operand(op, static_cast<int>(k), operands[k], accepted_shapes(op));
    if (operands[k] != operands[from])
      return TypingProblem{static_cast<int>(k),
                           "the operands of '" + std::string(row.name) +
                               "' differ: " + operands[from].name() + " and " + operands[k].name(),
                           operands[from].name()};
  }
  return std::nullopt;
}

// [p + i*scale]: a pointer, then perhaps an index as wide as a pointer, from operand `k` on.
Problem address_operands(Op op, std::span<const Type> operands, size_t k) {
  if (operands.size() < k + 1 || operands.size() > k + 2)
    return TypingProblem{-1, "an address has a pointer and at most one index", ""};
  if (!operands[k].is_pointer())
    return wrong_operand(op, static_cast<int>(k), operands[k], "ptr: an address starts with a pointer");
  if (operands.size() == k + 2 && operands[k + 1] != Type::integer(64))
    return wrong_operand(op, static_cast<int>(k + 1), operands[k + 1],
                         "i64: an index is as wide as a pointer");
  return std::nullopt;
}

Problem wrong_count(Op op, size_t is, size_t expected) {
  return TypingProblem{
      -1,
      "'" + std::string(info(op).name) + "' has " + std::to_string(is) + (is == 1 ? " operand" : " operands"),
      std::to_string(expected) + (expected == 1 ? " operand" : " operands")};
}

Problem operand_problem(Op op, std::span<const Type> operands, std::optional<Type> result) {
  const OperationInfo& row = info(op);
  switch (row.layout) {
    case Layout::One:
    case Layout::Two:
    case Layout::Three:
      if (operands.size() != row.arity()) return wrong_count(op, operands.size(), row.arity());
      return same_operands(op, operands, 0);
    case Layout::Pick:
      if (operands.size() != 3) return wrong_count(op, operands.size(), 3);
      if (!operands[0].is_bool()) return wrong_operand(op, 0, operands[0], "bool: the condition");
      return same_operands(op, operands, 1);
    case Layout::Convert: {
      if (operands.size() != 1) return wrong_count(op, operands.size(), 1);
      if (!result) return std::nullopt;
      auto why = conversion_problem(op, operands[0], *result);
      if (!why) return std::nullopt;
      return TypingProblem{
          0, "'" + std::string(row.name) + "' cannot make " + result->name() + " from " + operands[0].name(),
          *why};
    }
    case Layout::Load:
    case Layout::At: return address_operands(op, operands, 0);
    case Layout::Store: return address_operands(op, operands, 1);
    case Layout::When:
      if (operands.size() != 1) return wrong_count(op, operands.size(), 1);
      if (!operands[0].is_bool()) return wrong_operand(op, 0, operands[0], "bool: the condition");
      return std::nullopt;
    case Layout::Reserve:
    case Layout::AddressOf:
    case Layout::Go:
    case Layout::Trap: return operands.empty() ? std::nullopt : wrong_count(op, operands.size(), 0);
    case Layout::Call:
    case Layout::Return: break;
  }
  return std::nullopt;
}

std::optional<Type> result_of(Op op, std::span<const Type> operands, std::optional<Type> stated) {
  switch (info(op).result) {
    case ResultRule::Same: return operands.back();
    case ResultRule::Truth: return Type::boolean();
    case ResultRule::Stated: return stated;
    case ResultRule::Own: return op == Op::Call ? stated : Type::pointer();
    case ResultRule::None: break;
  }
  return std::nullopt;
}

}  // namespace

std::string accepted_shapes(Op op) {
  static constexpr std::pair<Shape, const char*> words[] = {{Shape::Bool, "bool"},
                                                            {Shape::Integer, "an integer"},
                                                            {Shape::Float, "a float"},
                                                            {Shape::Pointer, "ptr"}};
  std::vector<std::string> out;
  for (auto [shape, word] : words)
    if (info(op).accepts_shape(shape)) out.push_back(word);
  return listed(out);
}

std::optional<TypingProblem> typing_problem(Op op, std::span<const Type> operands,
                                            std::optional<Type> result) {
  if (auto problem = operand_problem(op, operands, result)) return problem;
  if (operands.empty() && info(op).result == ResultRule::Same) return std::nullopt;
  std::optional<Type> should = result_of(op, operands, result);
  if (should == result || op == Op::Call) return std::nullopt;
  std::string name(info(op).name);
  if (!should) return TypingProblem{-1, "'" + name + "' has no result", ""};
  return TypingProblem{-1, "'" + name + "' gives " + (result ? result->name() : "nothing") + " here",
                       should->name()};
}

}  // namespace porphyry
