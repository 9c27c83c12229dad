#include "porphyry/sample/cases.h"

#include <fmt/format.h>

#include "porphyry/ir/pen.h"
#include "porphyry/ir/typing.h"

namespace porphyry {

namespace {

// The operands of an operation that computes on this type with nothing besides; nothing where it does not.
std::optional<std::vector<Type>> operand_types(const OperationInfo& row, Type t) {
  if (!row.is_plain() || row.detail() != Detail::None || info(row.layout).stated) return std::nullopt;
  std::vector<Type> out;
  for (OperandRole role : roles_of(row.op)) switch (role) {
      case OperandRole::Same: out.push_back(t); break;
      case OperandRole::Condition:
      case OperandRole::Truth: out.push_back(Type::boolean().with_lanes(t.lanes())); break;
      case OperandRole::Lanes:
        if (!t.has_lanes() || row.layout != Layout::Reduce) return std::nullopt;
        out.push_back(t);
        break;
      default: return std::nullopt;
    }
  return out;
}

}  // namespace

std::vector<OperationCase> operation_cases(Type t, Type other) {
  std::vector<OperationCase> out;
  for (const OperationInfo& row : all_operations()) {
    if (!row.accepts_shape(t.shape()) || (row.op == Op::ReverseBytes && t.bits() % 8)) continue;
    if (row.layout == Layout::Convert) {
      for (Type to : {other, Type::f32().with_lanes(t.lanes()), Type::f64().with_lanes(t.lanes())})
        if (!conversion_problem(row.op, t, to)) out.push_back({row.op, {t}, to});
    } else if (auto types = operand_types(row, t)) {
      out.push_back({row.op, *types, {}});
    }
  }
  for (Type from : {Type::f32(), Type::f64()})
    for (Op op : {Op::ToIntS, Op::ToIntU})
      if (t.is_integer()) out.push_back({op, {from.with_lanes(t.lanes())}, t});
  return out;
}

std::unique_ptr<Module> module_of_cases(Realm& realm, std::span<const OperationCase> all, int constant) {
  auto module = std::make_unique<Module>(realm, "cases");
  for (size_t k = 0; k < all.size(); ++k) {
    Type results[2];
    unsigned count = result_types(all[k].op, all[k].operands, all[k].stated, results);
    Symbol s = module->add_function(fmt::format("f{}", k), {all[k].operands, {results, results + count}});
    Function& f = module->function(s);
    Pen pen(*module, f);
    pen.at_end(f.add_block());
    std::vector<Value> in(f.parameters().begin(), f.parameters().end());
    if (constant >= 0 && static_cast<size_t>(constant) < in.size() && in.size() > 1 &&
        !f.type(in[static_cast<size_t>(constant)]).has_lanes())
      in[static_cast<size_t>(constant)] = f.constant(all[k].operands[static_cast<size_t>(constant)], 1);
    Instruction i = pen.put({.op = all[k].op, .operands = in, .results = {results, count}});
    std::vector<Value> out;
    for (unsigned r = 0; r < count; ++r) out.push_back(f.result(i, r));
    pen.put({.op = Op::Return, .operands = out});
  }
  return module;
}

}  // namespace porphyry
