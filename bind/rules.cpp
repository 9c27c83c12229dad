#include "rules.h"

#include <algorithm>
#include <bit>

#include "porphyry/ir/compute.h"

namespace porphyry::bind {

using machine::Fit;
using machine::FormIndex;
using machine::NodeKind;
using machine::OperandKind;
using machine::RuleSource;
using machine::RuleStep;
using machine::SourceKind;

std::optional<BoundRule> RuleReader::run() {
  out_.name = after_first_word(entry_.header.text);
  size_t k = 0;
  std::vector<const Line*> patterns;
  for (; k < entry_.body.size() && entry_.body[k].text != "becomes"; ++k) {
    WordList w = words(entry_.body[k].text);
    if (w[0] == "unless" && w.size() == 4) {
      if (w[1] == w[3]) return std::nullopt;  // not this tuple
    } else if (w[0] == "where")
      condition(entry_.body[k], w);
    else
      patterns.push_back(&entry_.body[k]);
  }
  for (const Line* line : patterns) pattern(*line, words(line->text));
  if (statements_.empty() || k + 1 >= entry_.body.size()) {
    fail(entry_.header, "the rule is not complete", "a pattern, then `becomes` and instructions");
    return std::nullopt;
  }
  if (!good_) return std::nullopt;
  const Statement& root = statements_.back();
  if (root.is_constant && root.arguments.size() != 1) {
    fail(root.line, "a constant's pattern names one constant", "r = literal k:TYPE");
    return std::nullopt;
  }
  if (root.is_constant) {
    out_.matches_constant = true;
    leaf(root.arguments[0], root.type);
  } else {
    node(root);
  }
  if (!root.result.empty()) {
    Variable& v = variable(root.result);
    v.type = root.type;
    v.register_class = class_of(root.type);
    // The root's own result is the first variable when it is there at all.
  }
  size_t in_pattern = variables_.size();
  for (++k; k < entry_.body.size(); ++k) {
    WordList w = words(entry_.body[k].text);
    if (w[0] == "extra")
      out_.cost = static_cast<uint16_t>(out_.cost + number(w[1]).value_or(0));
    else
      right(entry_.body[k], w);
  }
  out_.variables.resize(variables_.size());
  for (const auto& [name, v] : variables_) {
    machine::VariableShape& shape = out_.variables[static_cast<size_t>(v.index)];
    shape.register_class = static_cast<uint8_t>(std::max(v.register_class, 0));
    shape.bits = v.type.exists() ? static_cast<uint8_t>(v.type.total_bits()) : 64;
  }
  if (variables_.size() > machine::most_rule_variables || in_pattern > machine::most_pattern_variables ||
      out_.nodes.size() > 64)
    fail(entry_.header, "the rule names too much",
         std::to_string(machine::most_rule_variables) + " names, " +
             std::to_string(machine::most_pattern_variables) +
             " of them in the pattern, and 64 parts at most");
  if (!good_) return std::nullopt;
  return std::move(out_);
}

// where k fits i32 · fits u12 · masked 31 · not -1 · nonzero
void RuleReader::condition(const Line& line, const WordList& w) {
  BoundNode n;
  n.kind = NodeKind::Constant;
  auto bits = w.size() == 4 && w[2] == "fits" ? number(w[3].substr(1)) : std::nullopt;
  if (bits && *bits > 0 && *bits < 64 && (w[3][0] == 'i' || w[3][0] == 'u'))
    n.fit = w[3][0] == 'i' ? Fit::Signed : Fit::Unsigned, n.literal = static_cast<uint64_t>(*bits);
  else if (w.size() == 4 && w[2] == "masked" && number(w[3]))
    n.fit = Fit::Masked, n.literal = static_cast<uint64_t>(*number(w[3]));
  else if (w.size() == 4 && w[2] == "not" && number(w[3]))
    n.fit = Fit::Not, n.literal = static_cast<uint64_t>(*number(w[3]));
  else if (w.size() == 3 && w[2] == "nonzero")
    n.fit = Fit::Nonzero;
  else
    return void(
        fail(line, "this condition is not known", "NAME fits iN, fits uN, masked N, not N or nonzero"));
  fits_[w[1]] = n;
}

namespace {

bool lane_list(const std::string& word, std::vector<uint8_t>& lanes) {
  std::string part;
  for (char c : word + "_") {
    if (c != '_') {
      part += c;
      continue;
    }
    auto n = number(part);
    if (!n || *n < 0 || *n > 255) return false;
    lanes.push_back(static_cast<uint8_t>(*n));
    part.clear();
  }
  return true;
}

}  // namespace

// [result =] operation [type] arguments
void RuleReader::pattern(const Line& line, const WordList& w) {
  Statement s;
  s.line = line;
  size_t at = 0;
  if (w.size() > 2 && w[1] == "=") s.result = w[0], at = 2;
  s.is_constant = w[at] == "literal";
  auto op = operation_named(w[at]);
  if (!op && !s.is_constant)
    return void(fail(line, "'" + w[at] + "' is no operation of the IR", "an operation, or literal"));
  if (op) s.op = *op;
  ++at;
  Type stated;
  if (at < w.size() && op && (info(*op).result == ResultRule::Stated))
    if (auto t = type_named(w[at])) stated = *t, ++at;
  arguments(line, w, at, s);
  bool condition_first = op && info(*op).roles().starts_with(static_cast<char>(OperandRole::Condition));
  bool numbers_lanes = op && (s.op == Op::Lane || s.op == Op::Put);
  size_t first = condition_first ? 1 : 0;
  for (size_t k = first; k < std::min(s.arguments.size(), numbers_lanes ? 1 : s.arguments.size()); ++k)
    if (s.arguments[k].type.exists()) s.operand = s.arguments[k].type;
  type_of(s, stated);
  for (size_t k = 0; k < s.arguments.size(); ++k) {
    Argument& a = s.arguments[k];
    if (!a.type.exists() && !a.memory)
      a.type = k < first                 ? Type::boolean()
               : numbers_lanes && k == 1 ? Type::integer(64)
               : numbers_lanes && k == 2 ? s.operand.element()
                                         : s.operand;
    note_variable(line, s, a);
  }
  statements_.push_back(s);
}

// What stands behind the operation and its type.
void RuleReader::arguments(const Line& line, const WordList& w, size_t at, Statement& s) {
  while (at < w.size()) {
    Argument a;
    if (w[at] == "," && ++at == w.size()) break;
    if (s.op == Op::Shuffle && s.arguments.size() == 2) {  // lanes as one word: 0_4_1_5
      if (!lane_list(w[at], s.lanes))
        fail(line, "'" + w[at] + "' is no list of lanes", "numbers such as 0_4_1_5");
      ++at;
      continue;
    }
    if (w[at] == "[" && at + 2 < w.size()) {
      a.memory = true;
      a.name = w[at + 1];
      at += 3;
    } else {
      a.number = number(w[at]);
      if (!a.number) a.name = w[at];
      ++at;
    }
    if (at + 1 < w.size() && w[at] == ":") {
      a.type = type_named(w[at + 1]).value_or(Type());
      at += 2;
    }
    for (const Statement& earlier : statements_)
      if (!a.name.empty() && earlier.result == a.name) a.type = earlier.type;
    if (auto known = variables_.find(a.name); known != variables_.end() && !a.type.exists())
      a.type = known->second.type;
    s.arguments.push_back(a);
  }
}

// The type of a statement's result, or of what it decides on.
void RuleReader::type_of(Statement& s, Type stated) {
  if (s.is_constant)
    s.type = s.operand;
  else if (s.op == Op::When)
    s.operand = Type::boolean();
  else if (info(s.op).result == ResultRule::Truth)
    s.type = Type::boolean().with_lanes(s.operand.exists() ? s.operand.lanes() : 1);
  else if (s.op == Op::Shuffle)
    s.type = s.lanes.empty() ? s.operand : s.operand.with_lanes(static_cast<unsigned>(s.lanes.size()));
  else if (info(s.op).result == ResultRule::Same)
    s.type = s.operand;
  else if (info(s.op).result == ResultRule::Element)
    s.type = s.operand.element();
  else if (info(s.op).result == ResultRule::Stated)
    s.type = stated;
  else if (s.op == Op::At || s.op == Op::AddressOf)
    s.type = binder_.address_type();
}

// A name that no earlier line makes is a variable of the rule.
void RuleReader::note_variable(const Line& line, const Statement& s, const Argument& a) {
  bool is_result = std::any_of(statements_.begin(), statements_.end(),
                               [&](const Statement& e) { return e.result == a.name; });
  if (!a.name.empty() && !is_result) {
    Variable& v = variable(a.name);
    v.is_memory = a.memory;
    v.is_constant = fits_.contains(a.name) || s.is_constant;
    v.type = a.type;
    v.register_class = class_of(a.type);
  }
  if (!a.memory && !a.type.exists())
    fail(line, "the type of '" + a.name + "' is not known", "a type, such as " + a.name + ":i32");
}

RuleReader::Variable& RuleReader::variable(const std::string& name) {
  auto [it, is_new] = variables_.try_emplace(name);
  if (is_new) it->second.index = static_cast<int8_t>(variables_.size() - 1);
  return it->second;
}

int8_t RuleReader::node(const Statement& s) {
  int8_t self = static_cast<int8_t>(out_.nodes.size());
  BoundNode n;
  n.kind = NodeKind::Operation;
  n.op = s.op;
  n.shuffled = s.lanes;
  n.operand = s.operand;
  n.result = s.type;
  out_.nodes.push_back(n);
  if (self == 0 && !s.result.empty()) out_.nodes[0].variable = variable(s.result).index;
  for (size_t k = 0; k < s.arguments.size() && k < 3; ++k) {
    const Argument& a = s.arguments[k];
    const Statement* sub = nullptr;
    for (const Statement& earlier : statements_)
      if (&earlier != &s && !a.name.empty() && earlier.result == a.name) sub = &earlier;
    int8_t child = sub ? node(*sub) : leaf(a, a.type);
    out_.nodes[static_cast<size_t>(self)].children[k] = child;
  }
  return self;
}

int8_t RuleReader::leaf(const Argument& a, Type type) {
  BoundNode n;
  n.kind = NodeKind::Register;
  n.result = type;
  if (a.number) {
    n.kind = NodeKind::Literal;
    n.literal = static_cast<uint64_t>(*a.number) & static_cast<uint64_t>(mask_of(type.bits()));
  } else {
    if (fits_.contains(a.name)) {
      n = fits_[a.name];
      n.result = type;
      if (n.fit == Fit::Nonzero && type.exists() && !type.is_float())
        fail(entry_.header, "'" + a.name + "' is nonzero, and no float", "a float, which that is for");
    }
    const Variable& v = variable(a.name);
    if (v.is_memory)
      n.kind = NodeKind::Memory;
    else if (v.is_constant)
      n.kind = NodeKind::Constant;
    n.variable = v.index;
  }
  out_.nodes.push_back(n);
  return static_cast<int8_t>(out_.nodes.size() - 1);
}

// ---- the right side ---------------------------------------------------------------------------------------

RuleReader::Given RuleReader::place(const std::string& name) {
  if (auto r = binder_.register_named(name); r && !variables_.contains(name)) {
    int c = 0;
    while (binder_.book_.classes[static_cast<size_t>(c)].first +
               binder_.book_.classes[static_cast<size_t>(c)].count <=
           r->physical)
      ++c;
    return {{.kind = SourceKind::Physical, .physical = r->physical}, OperandKind::Register, c};
  }
  const Variable& v = variable(name);
  return {{.kind = SourceKind::Variable, .variable = v.index}, OperandKind::Register, v.register_class};
}

std::optional<RuleReader::Given> RuleReader::in_brackets(const Line& line, const WordList& w) {
  RuleSource s{.kind = SourceKind::Built};
  if (w.size() == 3 && w[1] == ":") {
    char* end = nullptr;
    double value = std::strtod(w[0].c_str(), &end);
    if (*end || w[0].empty())
      return fail(line, "'" + w[0] + "' is not a number", "a number and its type"), std::nullopt;
    s.kind = SourceKind::PoolLiteral;
    s.type = type_named(w[2]).value_or(Type());
    if (auto whole = number(w[0]); whole && s.type.is_integer()) {
      s.number = *whole;
      return Given{s, OperandKind::Memory};
    }
    float single = static_cast<float>(value);
    if (s.type.bits() == 32)
      s.number = std::bit_cast<int32_t>(single);
    else
      s.number = std::bit_cast<int64_t>(value);
    return Given{s, OperandKind::Memory};
  }
  if (w.size() == 1 && w[0] == "table" && !variables_.contains(w[0]))
    return Given{{.kind = SourceKind::Table}, OperandKind::Memory};
  if (w.size() == 2 && w[0] == "bytes" && (w[1] == "first" || w[1] == "second"))
    return Given{{.kind = w[1] == "first" ? SourceKind::FirstBytes : SourceKind::SecondBytes},
                 OperandKind::Memory};
  if (w.size() == 1 && variables_.contains(w[0])) {
    const Variable& v = variables_[w[0]];
    if (v.is_memory || v.is_constant) {
      s.kind = v.is_memory ? SourceKind::Memory : SourceKind::Pool;
      s.variable = v.index;
      return Given{s, OperandKind::Memory};
    }
  }
  for (size_t k = 0; k < w.size(); ++k) {  // x + y*4 + k
    if (w[k] == "+") continue;
    auto v = variables_.find(w[k]);
    if (v == variables_.end())
      return fail(line, "'" + w[k] + "' cannot stand in an address", "names of the pattern"), std::nullopt;
    bool scaled = k + 2 < w.size() && w[k + 1] == "*";
    if (v->second.is_constant)
      s.constant = v->second.index;
    else if (s.variable < 0 && !scaled)
      s.variable = v->second.index;
    else
      s.index = v->second.index;
    if (scaled) s.scale = static_cast<uint8_t>(number(w[k + 2]).value_or(1)), k += 2;
  }
  return Given{s, OperandKind::Memory};
}

std::optional<RuleReader::Given> RuleReader::given(const Line& line, const WordList& w) {
  if (w.size() > 1 && (w[0] == "upper" || w[0] == "lower")) return part(line, w);
  if (w.size() > 2 && w.front() == "[") return in_brackets(line, {w.begin() + 1, w.end() - 1});
  if (w.size() != 1)
    return fail(line, "an operand is not understood", "a name, a number, a register or [address]"),
           std::nullopt;
  if (w[0] == "order") return Given{{.kind = SourceKind::Order}, OperandKind::Literal};
  if (w[0] == "yes") return Given{{.kind = SourceKind::Yes}, OperandKind::Label};
  if (w[0] == "no") return Given{{.kind = SourceKind::No}, OperandKind::Label};
  if (auto n = number(w[0])) return Given{{.kind = SourceKind::Number, .number = *n}, OperandKind::Literal};
  if (auto v = variables_.find(w[0]); v != variables_.end() && v->second.is_constant)
    return Given{{.kind = SourceKind::Constant, .variable = v->second.index}, OperandKind::Literal};
  if (!variables_.contains(w[0]) && !binder_.register_named(w[0]))
    return fail(line, "'" + w[0] + "' is not given above", "a name of the pattern or of a line above"),
           std::nullopt;
  return place(w[0]);
}

// upper or lower, then a constant or an address in brackets: a literal
std::optional<RuleReader::Given> RuleReader::part(const Line& line, const WordList& w) {
  auto whole = given(line, {w.begin() + 1, w.end()});
  if (!whole) return std::nullopt;
  SourceKind kind = whole->source.kind;
  bool has_parts = kind == SourceKind::Constant || kind == SourceKind::Memory || kind == SourceKind::Pool ||
                   kind == SourceKind::PoolLiteral;
  if (!has_parts || binder_.book_.lower_bits == 0)
    return fail(line, "'" + w[1] + "' has no parts", "a constant or [address], and `parts lower N` above"),
           std::nullopt;
  whole->source.part = w[0] == "upper" ? machine::Part::Upper : machine::Part::Lower;
  whole->kind = OperandKind::Literal;
  return whole;
}

// Whether a form takes these operands; when it does, `step` says which goes where.
bool RuleReader::fit_form(const BoundForm& form, const std::vector<Given>& ins,
                          const std::optional<Given>& out, RuleStep& step) const {
  step = {};
  size_t next = 0;
  bool out_used = false;
  for (size_t k = 0; k < form.operands.size(); ++k) {
    const machine::FormOperand& o = form.operands[k];
    if (o.kind == OperandKind::Register && o.written) {
      if (!out || out_used) return false;
      if (out->register_class >= 0 && out->register_class != o.register_class) return false;
      step.out[k] = out->source;
      out_used = true;
      if (!o.read) continue;
    }
    if (next == ins.size()) return false;
    const Given& g = ins[next++];
    bool memory = g.kind == OperandKind::Memory && o.kind == OperandKind::Address;
    if (g.kind != o.kind && !memory) return false;
    if (g.kind == OperandKind::Register && g.register_class >= 0 && g.register_class != o.register_class)
      return false;
    if (o.only >= 0 && (g.source.kind != SourceKind::Physical || g.source.physical != o.only)) return false;
    step.in[k] = g.source;
  }
  return next == ins.size() && out_used == out.has_value();
}

void RuleReader::copy(const Line& line, const std::string& to, const std::string& from) {
  auto source = given(line, {from});
  if (!source || source->kind != OperandKind::Register)
    return void(fail(line, "'" + from + "' cannot be copied", "a register or an instruction"));
  Given target = place(to);
  if (target.register_class < 0) variables_[to].register_class = source->register_class;
  RuleStep step{};  // form 0 is the machine layer's own copy
  step.out[0] = target.source;
  step.in[0] = source->source;
  out_.steps.push_back(step);
  out_.cost += 3;
}

// [out =] instruction operands, or out = in
void RuleReader::right(const Line& line, const WordList& w) {
  std::string out = w.size() > 2 && w[1] == "=" ? w[0] : "";
  size_t at = out.empty() ? 0 : 2;
  auto forms = binder_.by_name_.find(w[at]);
  if (forms == binder_.by_name_.end()) {
    if (!out.empty() && w.size() == 3) return copy(line, out, w[2]);
    return void(fail(line, "no instruction is called '" + w[at] + "'",
                     "an instruction of this book, with its width"));
  }
  std::vector<Given> ins;
  WordList part;
  int depth = 0;
  for (size_t k = at + 1; k <= w.size(); ++k) {
    if (k == w.size() || (w[k] == "," && depth == 0)) {
      if (part.empty()) continue;
      auto g = given(line, part);
      if (!g) return;
      ins.push_back(*g);
      part.clear();
      continue;
    }
    depth += w[k] == "[" ? 1 : w[k] == "]" ? -1 : 0;
    part.push_back(w[k]);
  }
  std::optional<Given> target;
  if (!out.empty()) target = place(out);
  std::optional<RuleStep> best;
  for (FormIndex f : forms->second) {
    RuleStep step;
    if (!fit_form(binder_.book_.forms[f], ins, target, step)) continue;
    step.form = f;
    best = step;
  }
  if (!best)
    return void(fail(line, "'" + w[at] + "' has no form for these operands", "operands of one of its forms"));
  const BoundForm& form = binder_.book_.forms[best->form];
  if (target && target->source.kind == SourceKind::Variable) {
    for (size_t k = 0; k < form.operands.size(); ++k)
      if (best->out[k].kind == SourceKind::Variable) {
        Variable& v = variables_[out];
        v.register_class = form.operands[k].register_class;
        if (!v.type.exists()) v.type = form.operands[k].type;
      }
  }
  out_.needs |= form.needs;
  out_.cost = static_cast<uint16_t>(out_.cost + form.cost);
  out_.steps.push_back(*best);
}

}  // namespace porphyry::bind
