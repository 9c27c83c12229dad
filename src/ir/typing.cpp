#include "porphyry/ir/typing.h"

#include <vector>

#include "porphyry/base/diagnostics.h"

namespace porphyry {
namespace {

using Problem = std::optional<TypingProblem>;
using Types = std::span<const Type>;

std::string quoted_name(Op op) { return "'" + std::string(info(op).name) + "'"; }

Problem wrong_operand(Op op, size_t k, Type is, std::string expected) {
  return TypingProblem{static_cast<int>(k), quoted_name(op) + " does not take " + is.name() + " here",
                       std::move(expected)};
}

Problem same_operands(Op op, Types operands, size_t from, size_t to) {
  for (size_t k = from; k < to; ++k) {
    if (!info(op).accepts_shape(operands[k].shape()))
      return wrong_operand(op, k, operands[k], accepted_shapes(op));
    if (operands[k] != operands[from])
      return TypingProblem{static_cast<int>(k),
                           "the operands of " + quoted_name(op) + " differ: " + operands[from].name() +
                               " and " + operands[k].name(),
                           operands[from].name()};
  }
  return std::nullopt;
}

Problem needs_lanes(Op op, Types operands) {
  for (size_t k = 0; k < operands.size(); ++k)
    if (!operands[k].has_lanes() || !info(op).accepts_shape(operands[k].shape()))
      return wrong_operand(op, k, operands[k], "lanes of " + accepted_shapes(op));
  return std::nullopt;
}

// The operands of an address from `k` on: a pointer, then perhaps an index as wide as the pointer.
Problem address_operands(Op op, Types operands, size_t k, const Address& a) {
  if (!operands[k].is_pointer())
    return wrong_operand(op, k, operands[k], "ptr: an address starts with a pointer");
  Type index = Type::integer(operands[k].bits());
  if (a.indexed && operands[k + 1] != index)
    return wrong_operand(op, k + 1, operands[k + 1], index.name() + ": an index is as wide as a pointer");
  return std::nullopt;
}

Problem bytes_operand(Op op, Types operands, size_t k, Type pointer) {
  Type wanted = Type::integer(pointer.bits());
  if (operands[k] == wanted) return std::nullopt;
  return wrong_operand(op, k, operands[k], wanted.name() + ": a number of bytes is as wide as a pointer");
}

Problem wrong_count(Op op, size_t is, size_t expected) {
  return TypingProblem{-1,
                       quoted_name(op) + " has " + std::to_string(is) + (is == 1 ? " operand" : " operands"),
                       std::to_string(expected) + (expected == 1 ? " operand" : " operands")};
}

Problem condition(Op op, Type is, Type value) {
  if (is == Type::boolean() || is == Type::boolean().with_lanes(value.lanes())) return std::nullopt;
  return wrong_operand(op, 0, is,
                       value.has_lanes()
                           ? "bool, or one for each lane: bool[" + std::to_string(value.lanes()) + "]"
                           : "bool: the condition");
}

// How many operands an instruction of this form has; nothing when that is decided elsewhere.
std::optional<size_t> operand_count(Op op, const OperandForm& form) {
  const Address none;
  const Address& a = form.address ? *form.address : none;
  switch (info(op).layout) {
    case Layout::Load: return a.operand_count() + (a.masked ? 2 : 0);
    case Layout::Store: return 1 + a.operand_count() + (a.masked ? 1 : 0);
    case Layout::At: return a.operand_count();
    case Layout::Fill: return a.operand_count() + 2;
    case Layout::Copy: return a.operand_count() + (form.from ? form.from->operand_count() : 1) + 1;
    case Layout::Renew: return 2;
    case Layout::Release:
    case Layout::Sole:
    case Layout::End:
    case Layout::Watch:
    case Layout::When:
    case Layout::Choose: return 1;
    case Layout::Reserve:
    case Layout::AddressOf:
    case Layout::Go:
    case Layout::Trap: return 0;
    case Layout::Call:
    case Layout::CallThrough:
    case Layout::Return: return std::nullopt;
    default: return info(op).arity();
  }
}

Problem memory_problem(Op op, Types operands, Types results, const OperandForm& form) {
  const Address none;
  const Address& a = form.address ? *form.address : none;
  size_t first = info(op).layout == Layout::Store || info(op).layout == Layout::Fill ? 1 : 0;
  if (auto p = address_operands(op, operands, first, a)) return p;
  size_t next = first + a.operand_count();
  Type pointer = operands[first];
  if (op == Op::Copy) {
    const Address& from = form.from ? *form.from : none;
    if (auto p = address_operands(op, operands, next, from)) return p;
    next += from.operand_count();
  }
  if (op == Op::Copy || op == Op::Fill) {
    if (op == Op::Fill && operands[0] != Type::integer(8))
      return wrong_operand(op, 0, operands[0], "i8: memory is filled byte by byte");
    return bytes_operand(op, operands, next, pointer);
  }
  if (!a.masked) return std::nullopt;
  Type value = op == Op::Store ? operands[0] : operands[next + 1];
  if (value.is_bool())
    return TypingProblem{-1, "lanes of bool share bytes and cannot be masked", "lanes of another type"};
  if (!value.has_lanes())
    return TypingProblem{-1, "only lanes can be masked, and this is " + value.name(),
                         "lanes, such as f32[8]"};
  if (operands[next] != Type::boolean().with_lanes(value.lanes()))
    return wrong_operand(op, next, operands[next],
                         Type::boolean().with_lanes(value.lanes()).name() + ": a bool for each lane");
  if (op == Op::Load && !results.empty() && results[0] != value)
    return wrong_operand(op, next + 1, value, results[0].name() + ": what inactive lanes have");
  return std::nullopt;
}

Problem lanes_problem(Op op, Types operands, Types results) {
  Type v = operands[0];
  switch (info(op).layout) {
    case Layout::Splat:
      if (v.has_lanes() || !info(op).accepts_shape(v.shape()))
        return wrong_operand(op, 0, v, accepted_shapes(op));
      if (!results.empty() && (results[0].element() != v || !results[0].has_lanes()))
        return TypingProblem{0, "'splat' cannot make " + results[0].name() + " from " + v.name(),
                             "an element of the lanes"};
      return std::nullopt;
    case Layout::Lane:
    case Layout::Put:
      if (auto p = needs_lanes(op, operands.first(1))) return p;
      if (!operands[1].is_integer() || operands[1].has_lanes())
        return wrong_operand(op, 1, operands[1], "an integer: the number of a lane");
      if (op == Op::Put && operands[2] != v.element())
        return wrong_operand(op, 2, operands[2], v.element().name() + ": an element of the lanes");
      return std::nullopt;
    case Layout::Shuffle:
    case Layout::Interleave:
      if (auto p = needs_lanes(op, operands)) return p;
      if (auto p = same_operands(op, operands, 0, 2)) return p;
      if (op == Op::Interleave && v.lanes() * 2 > Type::lane_limit)
        return wrong_operand(op, 0, v, "at most " + std::to_string(Type::lane_limit / 2) + " lanes");
      if (op == Op::Shuffle && !results.empty() && results[0].element() != v.element())
        return TypingProblem{-1, "'shuffle' gives " + results[0].name() + " here",
                             "lanes of " + v.element().name()};
      return std::nullopt;
    default: return needs_lanes(op, operands);
  }
}

Problem operand_problem(Op op, Types operands, Types results, const OperandForm& form) {
  const OperationInfo& row = info(op);
  auto count = operand_count(op, form);
  if (!count) return std::nullopt;
  if (operands.size() != *count) return wrong_count(op, operands.size(), *count);
  switch (row.layout) {
    case Layout::One:
      if (op == Op::ReverseBytes && operands[0].is_integer() && operands[0].bits() % 8 != 0)
        return wrong_operand(op, 0, operands[0], "an integer of whole bytes, such as i24");
      [[fallthrough]];
    case Layout::Two:
    case Layout::Three:
    case Layout::Pair: return same_operands(op, operands, 0, operands.size());
    case Layout::Carry:
      if (auto p = same_operands(op, operands, 0, 2)) return p;
      if (operands[2] == Type::boolean().with_lanes(operands[0].lanes())) return std::nullopt;
      return wrong_operand(op, 2, operands[2], Type::boolean().with_lanes(operands[0].lanes()).name());
    case Layout::Pick:
      if (auto p = condition(op, operands[0], operands[1])) return p;
      return same_operands(op, operands, 1, 3);
    case Layout::Convert: {
      if (results.empty()) return std::nullopt;
      auto why = conversion_problem(op, operands[0], results[0]);
      if (!why) return std::nullopt;
      return TypingProblem{
          0, quoted_name(op) + " cannot make " + results[0].name() + " from " + operands[0].name(), *why};
    }
    case Layout::Splat:
    case Layout::Lane:
    case Layout::Put:
    case Layout::Shuffle:
    case Layout::Interleave:
    case Layout::Reduce: return lanes_problem(op, operands, results);
    case Layout::Load:
    case Layout::Store:
    case Layout::At:
    case Layout::Copy:
    case Layout::Fill: return memory_problem(op, operands, results, form);
    case Layout::Renew:
    case Layout::Release:
    case Layout::Sole:
    case Layout::End:
      if (!operands[0].is_pointer()) return wrong_operand(op, 0, operands[0], "ptr");
      return op == Op::Renew ? bytes_operand(op, operands, 1, operands[0]) : std::nullopt;
    case Layout::When:
      if (operands[0] == Type::boolean()) return std::nullopt;
      return wrong_operand(op, 0, operands[0], "bool: the condition");
    case Layout::Choose:
      if (operands[0].is_integer() && !operands[0].has_lanes()) return std::nullopt;
      return wrong_operand(op, 0, operands[0], "an integer");
    default: return std::nullopt;
  }
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

unsigned result_types(Op op, Types operands, Type stated, Type out[2]) {
  auto same = [&] { return info(op).layout == Layout::Pick ? operands[1] : operands[0]; };
  auto truth = [&] { return Type::boolean().with_lanes(operands[0].lanes()); };
  switch (info(op).result) {
    case ResultRule::Same: out[0] = same(); return 1;
    case ResultRule::Truth: out[0] = truth(); return 1;
    case ResultRule::SameTwice: out[0] = out[1] = same(); return 2;
    case ResultRule::SameTruth: out[0] = same(), out[1] = truth(); return 2;
    case ResultRule::Element: out[0] = operands[0].element(); return 1;
    case ResultRule::Doubled: out[0] = operands[0].with_lanes(operands[0].lanes() * 2); return 1;
    case ResultRule::Stated: out[0] = stated; return 1;
    case ResultRule::Own: out[0] = op == Op::At || op == Op::Sole ? operands[0] : stated; return 1;
    case ResultRule::None: break;
  }
  return 0;
}

std::optional<TypingProblem> typing_problem(Op op, Types operands, Types results, const OperandForm& form) {
  if (auto problem = operand_problem(op, operands, results, form)) return problem;
  if (info(op).calls() || info(op).layout == Layout::Return) return std::nullopt;
  Type should[2];
  unsigned count = result_types(op, operands, results.empty() ? Type() : results[0], should);
  if (results.empty() && count) return std::nullopt;
  if (results.size() != count)
    return TypingProblem{-1, quoted_name(op) + " has " + std::to_string(results.size()) + " results",
                         std::to_string(count) + (count == 1 ? " result" : " results")};
  for (unsigned k = 0; k < count; ++k) {
    if (results[k] == should[k]) continue;
    return TypingProblem{-1, quoted_name(op) + " gives " + results[k].name() + " here", should[k].name()};
  }
  return std::nullopt;
}

}  // namespace porphyry
