// From what was written to an instruction: types settle, rules are checked, results get their names.
#include <algorithm>

#include "body.h"
#include "porphyry/ir/typing.h"

namespace porphyry::text {

// The type that literals take from the other operands.
void BodyReader::infer_type(Type& inferred) {
  Layout layout = info(p_.op).layout;
  size_t from = layout == Layout::Pick ? 1 : 0, to = p_.written.size();
  if (layout == Layout::Carry) to = 2;
  if (layout == Layout::Lane || layout == Layout::Put) to = 1;
  for (size_t k = from; k < to && k < p_.written.size() && !inferred.exists(); ++k) {
    const Written& w = p_.written[k];
    if (!w.good) continue;
    if (w.literal.empty())
      inferred = function_.type(w.value);
    else if (w.stated)
      inferred = *w.stated;
  }
}

std::optional<Type> BodyReader::wanted_in_memory(size_t k) const {
  Type pointer = module_.pointer_type(), index = module_.index_type();
  if (p_.op == Op::Copy) {
    size_t to = p_.copy.to.operand_count(), from = p_.copy.from.operand_count();
    if (k == 0 || k == to) return pointer;
    return k < to + from + 1 ? std::optional(index) : std::nullopt;
  }
  size_t first = p_.op == Op::Store || p_.op == Op::Fill ? 1 : 0, count = p_.address.operand_count();
  if (k < first) return p_.op == Op::Fill ? std::optional(Type::integer(8)) : std::nullopt;
  if (k == first) return pointer;
  if (k < first + count || p_.op == Op::Fill) return index;
  // The mask and what inactive lanes have.
  Type value = p_.op == Op::Load              ? p_.results[0]
               : p_.written[0].stated         ? *p_.written[0].stated
               : p_.written[0].value.exists() ? function_.type(p_.written[0].value)
                                              : Type();
  if (!value.exists()) return std::nullopt;
  return k == first + count ? Type::boolean().with_lanes(value.lanes()) : value;
}

// The type of a literal at this place, when the statement decides it.
std::optional<Type> BodyReader::wanted_type(size_t k, Type inferred) const {
  if (k < p_.wanted.size()) return p_.wanted[k];
  auto known = [&](Type t) { return t.exists() ? std::optional(t) : std::nullopt; };
  switch (info(p_.op).layout) {
    case Layout::One:
    case Layout::Two:
    case Layout::Three:
    case Layout::Pair:
    case Layout::Interleave:
    case Layout::Shuffle:
    case Layout::Reduce: return known(inferred);
    case Layout::Pick: return k == 0 ? Type::boolean() : known(inferred);
    case Layout::Carry:
      if (k < 2) return known(inferred);
      return inferred.exists() ? known(Type::boolean().with_lanes(inferred.lanes())) : std::nullopt;
    case Layout::Lane:
    case Layout::Put:
      if (k == 1) return Type::integer(32);
      return k == 0 || !inferred.exists() ? std::nullopt : known(inferred.element());
    case Layout::Splat: return p_.results[0].element();
    case Layout::When: return Type::boolean();
    case Layout::Release:
    case Layout::Sole:
    case Layout::End: return module_.pointer_type();
    case Layout::Renew: return k == 0 ? module_.pointer_type() : module_.index_type();
    case Layout::Load:
    case Layout::Store:
    case Layout::At:
    case Layout::Copy:
    case Layout::Fill: return wanted_in_memory(k);
    default: return std::nullopt;
  }
}

bool BodyReader::settle_operands() {
  untyped_told_ = false;
  bool literals = false;
  for (const Written& w : p_.written) {
    // An operand that is wrong already may be the one that the type would have come from.
    untyped_told_ |= !w.good;
    literals |= !w.literal.empty();
  }
  Type inferred;
  if (literals) infer_type(inferred);
  bool good = true;
  values_.clear(), types_.clear();
  for (size_t k = 0; k < p_.written.size(); ++k) {
    Written& w = p_.written[k];
    std::optional<Value> v;
    if (!w.literal.empty())
      v = settle(w, wanted_type(k, inferred));
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
    values_.push_back(*v);
    types_.push_back(function_.type(*v));
  }
  return good;
}

// Edges' arguments, in the order they are written, and a choice's numbers.
bool BodyReader::settle_targets() {
  bool good = true;
  argument_values_.clear(), draft_targets_.clear();
  for (const Target& t : p_.targets) {
    auto parameters = function_.parameters(t.to);
    for (size_t k = 0; k < t.argument_count && k < parameters.size(); ++k) {
      Written& w = p_.arguments[t.first_argument + k];
      Type wanted = function_.type(parameters[k]);
      auto v = settle(w, wanted);
      if (v && function_.type(*v) != wanted) {
        complain(w.token, "this value is " + function_.type(*v).name(),
                 wanted.name() + ", the type of the block's parameter");
        v.reset();
      }
      good &= v.has_value();
      argument_values_.push_back(v.value_or(Value()));
    }
    draft_targets_.push_back({t.to, {}, t.weight});
  }
  if (!good || !p_.good) return good;
  size_t at = 0;  // the values have their final place now
  for (size_t k = 0; k < p_.targets.size(); ++k) {
    draft_targets_[k].arguments = {argument_values_.data() + at, p_.targets[k].argument_count};
    at += p_.targets[k].argument_count;
  }
  return (p_.op != Op::Choose || types_.size() != 1 || settle_cases()) && good;
}

bool BodyReader::settle_cases() {
  case_values_.clear();
  std::vector<uint32_t> order;  // of those that are numbers
  for (const Written& w : p_.cases) {
    auto bits = integer_bits(w.literal, types_[0]);
    if (bits)
      order.push_back(static_cast<uint32_t>(case_values_.size()));
    else
      not_a_number(w, w.literal, types_[0]);
    case_values_.push_back(bits.value_or(0));
  }
  bool good = order.size() == p_.cases.size();
  auto number = [&](uint32_t k) { return std::pair(case_values_[k], k); };
  std::sort(order.begin(), order.end(), [&](uint32_t a, uint32_t b) { return number(a) < number(b); });
  for (size_t k = 1; k < order.size(); ++k) {
    if (case_values_[order[k]] != case_values_[order[k - 1]]) continue;
    const Written& again = p_.cases[order[k]];
    complain(again.token, "a second case for " + std::string(again.literal), "each value once");
    good = false;
  }
  return good;
}

bool BodyReader::check_types() {
  if (info(p_.op).calls() || p_.op == Op::Return) return true;
  OperandForm form{p_.op == Op::Copy ? &p_.copy.to : &p_.address, &p_.copy.from};
  if (p_.op == Op::Shuffle) {
    p_.results.push_back(types_[0].with_lanes(static_cast<unsigned>(p_.lanes.size())));
    for (uint16_t lane : p_.lanes)
      if (lane >= 2 * types_[0].lanes() && types_[0].has_lanes())
        return refuse(p_.word, "there is no lane " + std::to_string(lane) + " in two of " + types_[0].name(),
                      "a number below " + std::to_string(2 * types_[0].lanes()));
  }
  auto problem = typing_problem(p_.op, types_, p_.results, form);
  if (problem) {
    bool at_operand = problem->operand >= 0 && static_cast<size_t>(problem->operand) < p_.written.size();
    return refuse(at_operand ? p_.written[static_cast<size_t>(problem->operand)].token : p_.word,
                  problem->message, problem->expected);
  }
  Type results[2];
  unsigned count = result_types(p_.op, types_, p_.results.empty() ? Type() : p_.results[0], results);
  p_.results.assign(results, results + count);
  return true;
}

void BodyReader::check_result_count() {
  if (p_.results.size() == result_names_.size() || (result_names_.empty() && info(p_.op).calls())) return;
  refuse(p_.word,
         "'" + std::string(info(p_.op).name) + "' gives " + std::to_string(p_.results.size()) +
             (p_.results.size() == 1 ? " result" : " results") + ", but " +
             std::to_string(result_names_.size()) + " are named",
         p_.results.empty() ? "the operation without '='" : "a name for each result, then '='");
}

Instruction BodyReader::put() {
  switch (info(p_.op).layout) {
    case Layout::Load:
    case Layout::Store:
    case Layout::At:
    case Layout::Fill: p_.detail = function_.add_address(p_.address); break;
    case Layout::Copy: p_.detail = function_.add_copy(p_.copy); break;
    case Layout::Shuffle: p_.detail = function_.add_shuffle(p_.lanes); break;
    case Layout::Choose: p_.detail = function_.add_cases(case_values_); break;
    default: break;
  }
  return pen_.put({.op = p_.op,
                   .operands = values_,
                   .results = p_.results,
                   .detail = p_.detail,
                   .position = position_,
                   .targets = draft_targets_,
                   .promises = p_.promises,
                   .permits = p_.permits,
                   .hint = p_.hint});
}

void BodyReader::finish() {
  bool settled = settle_operands();
  // A wrong target says nothing about the condition.
  bool deciding = settled && p_.op == Op::When && types_.size() == 1;
  if ((settled && p_.good) || deciding) check_types();
  if (settled && p_.good) check_result_count();
  bool targets = p_.targets.empty() ? (draft_targets_.clear(), true) : settle_targets();
  if (values_.size() > Function::list_limit) refuse(p_.word, "this has more than 65535 operands", "fewer");
  if (!pen_.block().exists() || block_ended_)
    refuse(
        p_.word,
        pen_.block().exists() ? "the block above has already ended" : "a function's body begins with a label",
        "a label, such as next:");
  if (info(p_.op).ends_block()) block_ended_ = true;
  if (!settled || !targets || !p_.good) {
    good_ = false;
    return define_results({});
  }
  Instruction i = put();
  places_.instructions.set(i, {p_.word.offset, p_.word.length});
  for (auto& c : waiting_comments_) {
    c.above = i;
    function_.comments.push_back(std::move(c));
  }
  waiting_comments_.clear();
  define_results(i);
}

void BodyReader::define_results(Instruction i) {
  for (size_t k = 0; k < result_names_.size(); ++k) {
    Name n = name_of(result_names_[k]);
    if (context_.names.has_value(n))
      complain(result_names_[k], "a second value is called '" + std::string(module_.text(n)) + "'",
               "a name that no other value of the function has");
    Value v = i.exists() ? function_.result(i, k) : Value();
    if (v.exists()) function_.set_name(v, n);
    context_.names.define(n, v);
  }
}

}  // namespace porphyry::text
