#include "porphyry/ir/typing.h"

#include <algorithm>
#include <utility>
#include <vector>

#include "porphyry/base/diagnostics.h"

namespace porphyry {
namespace {

using Problem = std::optional<TypingProblem>;
using Types = std::span<const Type>;

std::string quoted_name(Op op) { return "'" + std::string(info(op).name) + "'"; }

// One instruction's operands. A role says what the type of an operand may be, seen beside the others.
class OperandCheck {
 public:
  OperandCheck(Op op, const OperandRoles& roles, Types operands, Types results)
      : op_(op), roles_(roles), operands_(operands), results_(results) {}

  Problem run() const {
    for (size_t k = 0; k < roles_.size(); ++k)
      if (auto p = one(k)) return p;
    return std::nullopt;
  }

 private:
  Problem wrong(size_t k, std::string expected) const {
    return TypingProblem{static_cast<int>(k),
                         quoted_name(op_) + " does not take " + operands_[k].name() + " here",
                         std::move(expected)};
  }
  Problem expect(bool good, size_t k, const char* expected) const {
    return good ? std::nullopt : wrong(k, expected);
  }
  Problem expect_type(size_t k, Type wanted, const char* why) const {
    return operands_[k] == wanted ? std::nullopt : wrong(k, wanted.name() + why);
  }
  size_t first(OperandRole role) const {
    return static_cast<size_t>(std::find(roles_.begin(), roles_.end(), role) - roles_.begin());
  }
  bool accepted(Type t) const { return info(op_).accepts_shape(t.shape()); }

  Problem one(size_t k) const {
    Type t = operands_[k];
    switch (roles_[k]) {
      case OperandRole::Same: return accepted(t) ? alike(k) : wrong(k, accepted_shapes(op_));
      case OperandRole::Lanes:
        return t.has_lanes() && accepted(t) ? alike(k) : wrong(k, "lanes of " + accepted_shapes(op_));
      case OperandRole::Condition: return condition(k);
      case OperandRole::Truth: return expect_type(k, Type::boolean().with_lanes(operands_[0].lanes()), "");
      case OperandRole::Source: return source(k);
      case OperandRole::Element: return k == 0 ? filling() : element(k);
      case OperandRole::LaneNumber:
        return expect(t.is_integer() && !t.has_lanes(), k, "an integer: the number of a lane");
      case OperandRole::Number: return expect(t.is_integer() && !t.has_lanes(), k, "an integer");
      case OperandRole::Byte: return expect(t == Type::integer(8), k, "i8: memory is filled byte by byte");
      case OperandRole::Flag: return expect(t == Type::boolean(), k, "bool: the condition");
      case OperandRole::Pointer:
        return expect(t.is_pointer(), k,
                      info(op_).detail() == Detail::None ? "ptr" : "ptr: an address starts with a pointer");
      case OperandRole::Index:
        return expect_type(k, Type::integer(operands_[k - 1].bits()), ": an index is as wide as a pointer");
      case OperandRole::Bytes:
        return expect_type(k, Type::integer(operands_[first(OperandRole::Pointer)].bits()),
                           ": a number of bytes is as wide as a pointer");
      case OperandRole::Mask: return mask(k);
      case OperandRole::Inactive:
        if (results_.empty() || results_[0] == t) return std::nullopt;
        return wrong(k, results_[0].name() + ": what inactive lanes have");
      case OperandRole::Stored:
      case OperandRole::Address:
      case OperandRole::Any: return std::nullopt;
    }
    return std::nullopt;
  }

  // The same type as the first of this role.
  Problem alike(size_t k) const {
    Type as = operands_[first(roles_[k])];
    if (operands_[k] == as) return std::nullopt;
    return TypingProblem{
        static_cast<int>(k),
        "the operands of " + quoted_name(op_) + " differ: " + as.name() + " and " + operands_[k].name(),
        as.name()};
  }
  Problem condition(size_t k) const {
    Type value = operands_.back(), truth = Type::boolean().with_lanes(value.lanes());
    if (operands_[k] == Type::boolean() || operands_[k] == truth) return std::nullopt;
    return wrong(k,
                 value.has_lanes() ? "bool, or one for each lane: " + truth.name() : "bool: the condition");
  }
  Problem source(size_t k) const {
    if (results_.empty()) return std::nullopt;
    auto why = conversion_problem(op_, operands_[k], results_[0]);
    if (!why) return std::nullopt;
    return TypingProblem{
        static_cast<int>(k),
        quoted_name(op_) + " cannot make " + results_[0].name() + " from " + operands_[k].name(), *why};
  }
  Problem element(size_t k) const {
    return expect_type(k, operands_[0].element(), ": an element of the lanes");
  }
  Problem filling() const {
    Type v = operands_[0];
    if (v.has_lanes() || !accepted(v)) return wrong(0, accepted_shapes(op_));
    if (results_.empty() || (results_[0].element() == v && results_[0].has_lanes())) return std::nullopt;
    return TypingProblem{0, quoted_name(op_) + " cannot make " + results_[0].name() + " from " + v.name(),
                         "an element of the lanes"};
  }
  Problem mask(size_t k) const {
    Type value = roles_[roles_.size() - 1] == OperandRole::Inactive ? operands_.back() : operands_[0];
    if (value.is_bool())
      return TypingProblem{-1, "lanes of bool share bytes and cannot be masked", "lanes of another type"};
    if (!value.has_lanes())
      return TypingProblem{-1, "only lanes can be masked, and this is " + value.name(),
                           "lanes, such as f32[8]"};
    return expect_type(k, Type::boolean().with_lanes(value.lanes()), ": a bool for each lane");
  }

  Op op_;
  const OperandRoles& roles_;
  Types operands_, results_;
};

Problem wrong_count(Op op, size_t is, size_t expected) {
  return TypingProblem{-1, quoted_name(op) + " has " + counted(is, "operand"), counted(expected, "operand")};
}

// What single operations ask beyond the roles of their operands.
Problem particular_problem(Op op, Types operands, Types results) {
  auto wrong = [&](std::string expected) {
    return TypingProblem{0, quoted_name(op) + " does not take " + operands[0].name() + " here",
                         std::move(expected)};
  };
  if (op == Op::ReverseBytes && operands[0].bits() % 8 != 0)
    return wrong("an integer of whole bytes, such as i24");
  if (op == Op::Interleave && operands[0].lanes() * 2 > Type::lane_limit)
    return wrong("at most " + std::to_string(Type::lane_limit / 2) + " lanes");
  if (op == Op::Shuffle && !results.empty() && results[0].element() != operands[0].element())
    return TypingProblem{-1, "'shuffle' gives " + results[0].name() + " here",
                         "lanes of " + operands[0].element().name()};
  return std::nullopt;
}

Problem operand_problem(Op op, Types operands, Types results, const OperandForm& form) {
  OperandRoles roles = roles_of(op, form);
  if (roles.open()) return std::nullopt;
  if (operands.size() != roles.size()) return wrong_count(op, operands.size(), roles.size());
  if (auto p = OperandCheck(op, roles, operands, results).run()) return p;
  return particular_problem(op, operands, results);
}

}  // namespace

OperandRoles roles_of(Op op, const OperandForm& form) {
  static const Address none;
  OperandRoles out;
  bool second = false;
  for (char letter : info(op).roles()) {
    auto role = static_cast<OperandRole>(letter);
    if (role == OperandRole::Any) {
      out.leave_open();
    } else if (role != OperandRole::Address) {
      out.add(role);
    } else {
      const Address* said = std::exchange(second, true) ? form.from : form.address;
      const Address& a = said ? *said : none;
      out.add(OperandRole::Pointer);
      if (a.indexed) out.add(OperandRole::Index);
      if (a.masked) out.add(OperandRole::Mask);
      if (a.masked && op == Op::Load) out.add(OperandRole::Inactive);
    }
  }
  return out;
}

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
  auto same = [&] {  // the first operand, or the one behind a condition
    std::string_view roles = info(op).roles();
    const char is_same = static_cast<char>(OperandRole::Same);
    return operands[roles[0] != is_same && roles.size() > 1 && roles[1] == is_same ? 1 : 0];
  };
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
  if (info(op).roles().ends_with(static_cast<char>(OperandRole::Any))) return std::nullopt;
  Type should[2];
  unsigned count = result_types(op, operands, results.empty() ? Type() : results[0], should);
  if (results.empty() && count) return std::nullopt;
  if (results.size() != count)
    return TypingProblem{-1, quoted_name(op) + " has " + counted(results.size(), "result"),
                         counted(count, "result")};
  for (unsigned k = 0; k < count; ++k) {
    if (results[k] == should[k]) continue;
    return TypingProblem{-1, quoted_name(op) + " gives " + results[k].name() + " here", should[k].name()};
  }
  return std::nullopt;
}

}  // namespace porphyry
