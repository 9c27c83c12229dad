// From what was written to an instruction: types settle, rules are checked, results get their names.
#include <algorithm>

#include "body.h"
#include "porphyry/ir/typing.h"

namespace porphyry::text {

// The type that literals take from the other operands.
void BodyReader::infer_type(Pending& p, Type& inferred) {
  for (size_t k = p.op == Op::Pick ? 1 : 0; k < p.written.size(); ++k) {
    const Written& w = p.written[k];
    if (!w.good || inferred.exists()) continue;
    if (w.literal.empty())
      inferred = function_.type(w.value);
    else if (w.stated)
      inferred = *w.stated;
  }
}

bool BodyReader::settle_all(Pending& p, std::vector<Value>& values, std::vector<Type>& types) {
  // An operand that is wrong already may be the one that the type would have come from.
  untyped_told_ = std::any_of(p.written.begin(), p.written.end(), [](const Written& w) { return !w.good; });
  Type inferred;
  Layout layout = info(p.op).layout;
  if (layout <= Layout::Pick) infer_type(p, inferred);
  bool good = true;
  for (size_t k = 0; k < p.written.size(); ++k) {
    std::optional<Type> type;
    if (k < p.wanted.size())
      type = p.wanted[k];
    else if (inferred.exists())
      type = inferred;
    if (p.has_address) {
      size_t base = p.op == Op::Store ? 1 : 0;
      if (k == base) type = Type::pointer();
      if (k == base + 1) type = Type::integer(64);
    }
    auto v = settle(p.written[k], type);
    if (!v) {
      good = false;
      continue;
    }
    if (k < p.wanted.size() && layout != Layout::Pick && layout != Layout::When &&
        function_.type(*v) != p.wanted[k]) {
      complain(p.written[k].token, "this value is " + function_.type(*v).name(), p.wanted[k].name());
      good = false;
    }
    values.push_back(*v);
    types.push_back(function_.type(*v));
  }
  return good;
}

void BodyReader::finish(Pending& p, const std::vector<Token>& result_names) {
  std::vector<Value> operands;
  std::vector<Type> types;
  bool settled = settle_all(p, operands, types);
  bool good = settled && p.good;
  if (good && info(p.op).result == ResultRule::Same) p.results = {types.back()};
  if (info(p.op).result == ResultRule::Truth) p.results = {Type::boolean()};
  // A wrong target says nothing about the condition.
  if (good || (settled && p.op == Op::When && types.size() == 1)) {
    std::optional<Type> result = p.results.empty() ? std::nullopt : std::optional(p.results[0]);
    if (auto problem = typing_problem(p.op, types, result)) {
      complain(problem->operand >= 0 ? p.written[static_cast<size_t>(problem->operand)].token : p.word,
               problem->message, problem->expected);
      good = false;
    }
  }
  if (good && p.results.size() != result_names.size() && !(result_names.empty() && p.op == Op::Call)) {
    complain(p.word,
             "'" + std::string(cursor_.text(p.word)) + "' gives " + std::to_string(p.results.size()) +
                 (p.results.size() == 1 ? " result" : " results") + ", but " +
                 std::to_string(result_names.size()) + " are named",
             p.results.empty() ? "the operation without '='" : "a name for each result, then '='");
    good = false;
  }
  // Edges' arguments, in the order they are written.
  std::vector<std::vector<Value>> arguments;
  for (auto& t : p.targets) {
    arguments.emplace_back();
    auto parameters = function_.parameters(t.to);
    for (size_t k = 0; k < t.arguments.size() && k < parameters.size(); ++k) {
      Type wanted = function_.type(parameters[k]);
      auto v = settle(t.arguments[k], wanted);
      if (v && function_.type(*v) != wanted) {
        complain(t.arguments[k].token, "this value is " + function_.type(*v).name(),
                 wanted.name() + ", the type of the block's parameter");
        v.reset();
      }
      if (!v)
        good = false;
      else
        arguments.back().push_back(*v);
    }
  }
  if (!pen_.block().exists() || block_ended_) {
    complain(
        p.word,
        pen_.block().exists() ? "the block above has already ended" : "a function's body begins with a label",
        "a label, such as next:");
    good = false;
  }
  if (info(p.op).ends_block()) block_ended_ = true;
  if (!good) {
    good_ = false;
    return define_results(result_names, {});
  }
  if (p.has_address) p.detail = function_.add_address(p.address);
  std::vector<Function::Draft::Target> targets;
  for (size_t k = 0; k < p.targets.size(); ++k) targets.push_back({p.targets[k].to, arguments[k]});
  Instruction i = pen_.put({p.op, operands, p.results, p.detail, position_, targets});
  places_.instructions.set(i, {p.word.offset, p.word.length});
  for (auto& c : waiting_comments_) {
    c.above = i;
    function_.comments.push_back(std::move(c));
  }
  waiting_comments_.clear();
  define_results(result_names, i);
}

void BodyReader::define_results(const std::vector<Token>& names, Instruction i) {
  for (size_t k = 0; k < names.size(); ++k) {
    Name n = name_of(names[k]);
    if (context_.names.has_value(n))
      complain(names[k], "a second value is called '" + std::string(module_.text(n)) + "'",
               "a name that no other value of the function has");
    Value v = i.exists() ? function_.result(i, k) : Value();
    if (v.exists()) function_.set_name(v, n);
    context_.names.define(n, v);
  }
}

}  // namespace porphyry::text
