// From what was written to an instruction: types settle, rules are checked, results get their names.
#include <algorithm>

#include "body.h"
#include "porphyry/ir/typing.h"

namespace porphyry::text {

// The type that literals take from the other operands: that of the first whose role is the operation's own
// type.
Type InstructionMaker::inferred_type(const OperandRoles& roles) const {
  for (size_t k = 0; k < p_.written.size() && k < roles.size(); ++k) {
    const Written& w = p_.written[k];
    if (!w.good || (roles[k] != OperandRole::Same && roles[k] != OperandRole::Lanes)) continue;
    if (w.literal.empty()) return function_.type(w.value);
    if (w.stated) return *w.stated;
  }
  return Type();
}

// What an access under a mask reads or writes.
Type InstructionMaker::masked_type() const {
  if (p_.op == Op::Load) return p_.results[0];
  const Written& stored = p_.written[0];
  return stored.stated ? *stored.stated : stored.value.exists() ? function_.type(stored.value) : Type();
}

// The type of a literal at this place, when the statement decides it.
std::optional<Type> InstructionMaker::wanted_type(size_t k, OperandRole role, Type inferred) const {
  auto known = [](Type t) { return t.exists() ? std::optional(t) : std::nullopt; };
  auto truth = [](Type t) {
    return t.exists() ? std::optional(Type::boolean().with_lanes(t.lanes())) : std::nullopt;
  };
  switch (role) {
    case OperandRole::Same:
    case OperandRole::Lanes: return known(inferred);
    case OperandRole::Condition:
    case OperandRole::Flag: return Type::boolean();
    case OperandRole::Truth: return truth(inferred);
    case OperandRole::LaneNumber: return Type::integer(32);
    case OperandRole::Element:
      if (k == 0) return p_.results[0].element();
      return inferred.exists() ? known(inferred.element()) : std::nullopt;
    case OperandRole::Byte: return Type::integer(8);
    case OperandRole::Pointer: return module_.pointer_type();
    case OperandRole::Index:
    case OperandRole::Bytes: return module_.index_type();
    case OperandRole::Mask: return truth(masked_type());
    case OperandRole::Inactive: return known(masked_type());
    default: return std::nullopt;
  }
}

bool InstructionMaker::settle_operands() {
  p_.untyped_told = false;
  bool literals = false;
  for (const Written& w : p_.written) {
    // An operand that is wrong already may be the one that the type would have come from.
    p_.untyped_told |= !w.good;
    literals |= !w.literal.empty();
  }
  OperandRoles roles;
  Type inferred;
  if (literals) roles = roles_of(p_.op, form()), inferred = inferred_type(roles);
  auto wanted = [&](size_t k) {
    if (k < p_.wanted.size()) return std::optional(p_.wanted[k]);
    return k < roles.size() ? wanted_type(k, roles[k], inferred) : std::nullopt;
  };
  bool good = true;
  tables_.values.clear(), tables_.types.clear();
  for (size_t k = 0; k < p_.written.size(); ++k) {
    Written& w = p_.written[k];
    std::optional<Value> v;
    if (!w.literal.empty())
      v = operands_.settle(w, wanted(k), p_.untyped_told);
    else if (w.good)
      v = w.value;
    if (!v) {
      good = false;
      continue;
    }
    if (k < p_.wanted.size() && function_.type(*v) != p_.wanted[k]) {
      complain(w.token, "this value is " + function_.type(*v).name(), p_.wanted[k].name());
      good = false;
    }
    tables_.values.push_back(*v);
    tables_.types.push_back(function_.type(*v));
  }
  return good;
}

// Edges' arguments, in the order they are written, and a choice's numbers.
bool InstructionMaker::settle_targets() {
  bool good = true;
  tables_.argument_values.clear(), tables_.draft_targets.clear();
  for (const WrittenTarget& t : p_.ways.targets) {
    auto parameters = function_.parameters(t.to);
    for (size_t k = 0; k < t.argument_count && k < parameters.size(); ++k) {
      Written& w = p_.ways.arguments[t.first_argument + k];
      Type wanted = function_.type(parameters[k]);
      auto v = operands_.settle(w, wanted, p_.untyped_told);
      if (v && function_.type(*v) != wanted) {
        complain(w.token, "this value is " + function_.type(*v).name(),
                 wanted.name() + ", the type of the block's parameter");
        v.reset();
      }
      good &= v.has_value();
      tables_.argument_values.push_back(v.value_or(Value()));
    }
    tables_.draft_targets.push_back({t.to, {}, t.weight});
  }
  if (!good || !p_.good) return good;
  size_t at = 0;  // the values have their final place now
  for (size_t k = 0; k < p_.ways.targets.size(); ++k) {
    tables_.draft_targets[k].arguments = {tables_.argument_values.data() + at,
                                          p_.ways.targets[k].argument_count};
    at += p_.ways.targets[k].argument_count;
  }
  return (p_.op != Op::Choose || tables_.types.size() != 1 || settle_cases()) && good;
}

bool InstructionMaker::settle_cases() {
  tables_.case_values.clear();
  std::vector<uint32_t> order;  // of those that are numbers
  for (const Written& w : p_.ways.cases) {
    auto bits = integer_bits(w.literal, tables_.types[0]);
    if (bits)
      order.push_back(static_cast<uint32_t>(tables_.case_values.size()));
    else
      operands_.not_a_number(w, w.literal, tables_.types[0]);
    tables_.case_values.push_back(bits.value_or(0));
  }
  bool good = order.size() == p_.ways.cases.size();
  auto number = [&](uint32_t k) { return std::pair(tables_.case_values[k], k); };
  std::sort(order.begin(), order.end(), [&](uint32_t a, uint32_t b) { return number(a) < number(b); });
  for (size_t k = 1; k < order.size(); ++k) {
    if (tables_.case_values[order[k]] != tables_.case_values[order[k - 1]]) continue;
    const Written& again = p_.ways.cases[order[k]];
    complain(again.token, "a second case for " + std::string(again.literal), "each value once");
    good = false;
  }
  return good;
}

bool InstructionMaker::check_types() {
  if (info(p_.op).calls() || p_.op == Op::Return) return true;
  if (p_.op == Op::Shuffle) {
    p_.results.push_back(tables_.types[0].with_lanes(static_cast<unsigned>(p_.lanes.size())));
    for (uint16_t lane : p_.lanes)
      if (lane >= 2 * tables_.types[0].lanes() && tables_.types[0].has_lanes())
        return refuse(p_.word,
                      "there is no lane " + std::to_string(lane) + " in two of " + tables_.types[0].name(),
                      "a number below " + std::to_string(2 * tables_.types[0].lanes()));
  }
  auto problem = typing_problem(p_.op, tables_.types, p_.results, form());
  if (problem) {
    bool at_operand = problem->operand >= 0 && static_cast<size_t>(problem->operand) < p_.written.size();
    return refuse(at_operand ? p_.written[static_cast<size_t>(problem->operand)].token : p_.word,
                  problem->message, problem->expected);
  }
  Type results[2];
  unsigned count = result_types(p_.op, tables_.types, p_.results.empty() ? Type() : p_.results[0], results);
  p_.results.assign(results, results + count);
  return true;
}

void InstructionMaker::check_result_count() {
  if (p_.results.size() == tables_.result_names.size() ||
      (tables_.result_names.empty() && info(p_.op).calls()))
    return;
  refuse(p_.word,
         "'" + std::string(info(p_.op).name) + "' gives " + counted(p_.results.size(), "result") + ", but " +
             std::to_string(tables_.result_names.size()) + " are named",
         p_.results.empty() ? "the operation without '='" : "a name for each result, then '='");
}

Instruction InstructionMaker::put() {
  switch (info(p_.op).detail()) {
    case Detail::Address: p_.detail = function_.add_address(p_.address); break;
    case Detail::Copy: p_.detail = function_.add_copy(p_.copy); break;
    case Detail::Lanes: p_.detail = function_.add_shuffle(p_.lanes); break;
    case Detail::Cases: p_.detail = function_.add_cases(tables_.case_values); break;
    default: break;
  }
  return pen_.put({.op = p_.op,
                   .operands = tables_.values,
                   .results = p_.results,
                   .detail = p_.detail,
                   .position = p_.said.position,
                   .targets = tables_.draft_targets,
                   .promises = p_.said.promises,
                   .permits = p_.said.permits,
                   .hint = p_.said.hint});
}

Instruction InstructionMaker::make(bool block_ended) {
  bool settled = settle_operands();
  // A wrong target says nothing about the condition.
  bool deciding = settled && p_.op == Op::When && tables_.types.size() == 1;
  if ((settled && p_.good) || deciding) check_types();
  if (settled && p_.good) check_result_count();
  bool targets = p_.ways.targets.empty() ? (tables_.draft_targets.clear(), true) : settle_targets();
  if (tables_.values.size() > Function::list_limit)
    refuse(p_.word, "this has more than 65535 operands", "fewer");
  if (!pen_.block().exists() || block_ended)
    refuse(
        p_.word,
        pen_.block().exists() ? "the block above has already ended" : "a function's body begins with a label",
        "a label, such as next:");
  if (settled && targets && p_.good) return put();
  fail();
  return {};
}

}  // namespace porphyry::text
