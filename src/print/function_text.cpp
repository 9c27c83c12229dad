#include "function_text.h"

#include <fmt/format.h>

#include "porphyry/ir/order.h"
#include "porphyry/print/literals.h"
#include "porphyry/print/print.h"

namespace porphyry::text {
namespace {

bool is_plain_name(std::string_view s) {
  if (s.empty() || (s[0] >= '0' && s[0] <= '9')) return false;
  for (char c : s)
    if (!((c >= 'a' && c <= 'z') || (c >= 'A' && c <= 'Z') || (c >= '0' && c <= '9') || c == '_'))
      return false;
  return s != "true" && s != "false" && s != "null" && s != "inf" && s != "nan";
}

}  // namespace
}  // namespace porphyry::text

std::string porphyry::quoted(std::string_view plain) {
  std::string out = "\"";
  for (char c : plain) {
    if (c == '\n')
      out += "\\n";
    else if (c == '\t')
      out += "\\t";
    else if (c == '\0')
      out += "\\0";
    else if (c == '"' || c == '\\')
      (out += '\\') += c;
    else if (static_cast<unsigned char>(c) < 0x20 || static_cast<unsigned char>(c) >= 0x7f)
      out += fmt::format("\\x{:02x}", static_cast<unsigned char>(c));
    else
      out += c;
  }
  return out + "\"";
}

std::string porphyry::shown_name(std::string_view name) {
  return text::is_plain_name(name) ? std::string(name) : quoted(name);
}

namespace porphyry::text {

std::string facts_text(const FunctionFacts& facts) {
  std::string out;
  if (facts.permits) out += " permit " + words_of(facts.permits, permit_words());
  if (facts.keep_small) out += " keep small";
  if (facts.inlining == Inlining::Never) out += " never inline";
  if (facts.inlining == Inlining::Prefer) out += " prefer inline";
  if (facts.outside) out += " " + words_of(facts.outside, outside_words());
  return out;
}

std::string signature_text(const Signature& signature, const FunctionFacts& facts) {
  std::string out = "(";
  for (size_t k = 0; k < signature.parameters.size(); ++k) {
    out += (k ? ", " : "") + signature.parameters[k].name();
    if (uint8_t marks = facts.marks_of(k)) out += " " + words_of(marks, mark_words(), " ");
  }
  if (signature.variadic) out += signature.parameters.empty() ? "..." : ", ...";
  out += ")";
  for (size_t k = 0; k < signature.results.size(); ++k)
    out += (k ? ", " : " -> ") + signature.results[k].name();
  return out;
}

// ---- names and operands -----------------------------------------------------------------------------------

void FunctionWriter::gather_names() {
  if (gathered_) return;
  gathered_ = true;
  for (size_t k = 0; k < function_.value_limit(); ++k)
    if (Name n = function_.name(Value(k)); n.exists()) taken_values_.insert(module_.text(n));
  for (size_t k = 0; k < function_.block_limit(); ++k)
    if (Name n = function_.name(Block(k)); n.exists()) taken_blocks_.insert(module_.text(n));
}

std::string FunctionWriter::free_name(char letter, uint32_t index, bool for_block) {
  std::string name = letter + std::to_string(index);
  if (!module_.realm().find(name).exists()) return name;  // nothing at all is called so
  gather_names();
  const auto& taken = for_block ? taken_blocks_ : taken_values_;
  while (taken.contains(name)) name += "_";
  return name;
}

// Nothing when there is no such operand: what is printed may be about to be refused for it.
Value FunctionWriter::operand(Instruction i, size_t k) const {
  return k < function_.operand_count(i) ? function_.operand(i, k) : Value();
}

bool FunctionWriter::is_literal(Value v) const { return v.exists() && function_.is_constant(v); }
Type FunctionWriter::type(Value v) const { return v.exists() ? function_.type(v) : Type(); }

std::string FunctionWriter::value(Value v) {
  if (!v.exists()) return "?";
  if (function_.is_constant(v)) return literal_text(function_.constant_words(v), function_.type(v));
  Name n = function_.name(v);
  return n.exists() ? shown_name(module_.text(n)) : free_name('v', v.index, false);
}

std::string FunctionWriter::typed(Value v) { return value(v) + (is_literal(v) ? ":" + type(v).name() : ""); }

std::string FunctionWriter::block(Block b) {
  Name n = function_.name(b);
  return n.exists() ? shown_name(module_.text(n)) : free_name('b', b.index, true);
}

// Operands from `from` on; those from `typed_from` on carry their type when they are literals.
std::string FunctionWriter::list(Instruction i, size_t from, bool all_typed, size_t typed_from) {
  std::string out;
  for (size_t k = from; k < function_.operand_count(i); ++k) {
    Value v = operand(i, k);
    out += (k > from ? ", " : "") + (all_typed || k >= typed_from ? typed(v) : value(v));
  }
  return out;
}

// Operands whose type follows from one another, from `first` to before `last`: where only literals stand, the
// first carries its type.
std::string FunctionWriter::plain_operands(Instruction i, size_t first, size_t last) {
  bool all_literal = true;
  for (size_t k = first; k < last; ++k) all_literal &= is_literal(operand(i, k));
  std::string out;
  for (size_t k = first; k < last; ++k) {
    Value v = operand(i, k);
    out += (k > first ? ", " : "") + (all_literal && k == first ? typed(v) : value(v));
  }
  return out;
}

// An operand by its role; `address` is the one that comes next, of those the instruction has.
std::string FunctionWriter::operand_text(Instruction i, size_t k, OperandRole role) {
  Value v = operand(i, k);
  switch (role) {
    case OperandRole::Condition:  // a literal one is a plain bool unless it says otherwise
      return is_literal(v) && type(v).has_lanes() ? typed(v) : value(v);
    case OperandRole::LaneNumber: return type(v) == Type::integer(32) ? value(v) : typed(v);
    case OperandRole::Source:
    case OperandRole::Stored:
    case OperandRole::Byte:
    case OperandRole::Number: return typed(v);
    default: return value(v);
  }
}

std::string FunctionWriter::operands(Instruction i) {
  const OperationInfo& row = info(function_.op(i));
  std::string_view roles = row.roles();
  std::string out;
  size_t k = 0;
  bool second = false;
  for (size_t at = 0; at < roles.size(); ++at) {
    if (at > 0) out += ", ";
    auto role = static_cast<OperandRole>(roles[at]);
    if (role == OperandRole::Same || role == OperandRole::Lanes) {
      size_t count = 1;
      while (at + count < roles.size() && roles[at + count] == roles[at]) ++count;
      out += plain_operands(i, k, k + count);
      k += count, at += count - 1;
    } else if (role == OperandRole::Address) {
      const Address& a = row.detail() != Detail::Copy  ? function_.address(i)
                         : std::exchange(second, true) ? function_.copy_shape(i).from
                                                       : function_.copy_shape(i).to;
      bool accesses = at + 1 == roles.size() && (row.reads_memory() || row.writes_memory());
      out += accesses ? access(i, k) : address(a, i, k);
      k += a.operand_count();
    } else {
      out += operand_text(i, k++, role);
    }
  }
  return row.detail() == Detail::Lanes ? out + ", " + lane_numbers(i) : out;
}

std::string FunctionWriter::lane_numbers(Instruction i) {
  std::string out = "{";
  for (unsigned k = 0; function_.result_count(i) && k < function_.type(function_.result(i)).lanes(); ++k)
    out += fmt::format("{}{}", k ? ", " : "", function_.shuffle_lane(i, k));
  return out + "}";
}

std::string FunctionWriter::address(const Address& a, Instruction i, size_t from) {
  std::string out = "[" + value(operand(i, from));
  if (a.indexed) {
    Value index = operand(i, from + 1);
    out += " + " + value(index);
    if (a.scale != 1 || is_literal(index)) out += "*" + std::to_string(a.scale);
  }
  if (a.offset > 0) out += fmt::format(" + {}", a.offset);
  if (a.offset < 0) out += fmt::format(" - {}", 0 - static_cast<uint64_t>(a.offset));
  return out + "]";
}

// An address and what is said of the access through it.
std::string FunctionWriter::access(Instruction i, size_t from) {
  const Address& a = function_.address(i);
  std::string out = address(a, i, from);
  if (a.masked) {
    size_t mask = from + a.operand_count();
    out += " where " + value(operand(i, mask));
    if (function_.op(i) == Op::Load) out += " else " + value(operand(i, mask + 1));
  }
  if (a.align != module_.kinds.align(a.kind)) out += fmt::format(" align {}", a.align);
  if (a.kind.exists())
    out += std::string(a.as_unwritten ? " as const " : " as ") + path_text(module_, a.kind);
  if (a.is_volatile) out += " volatile";
  if (a.guarded) out += " guarded";
  if (a.early) out += " early";
  return out;
}

// ---- calls and ends of blocks -----------------------------------------------------------------------------

std::string FunctionWriter::call(Instruction i) {
  Symbol s = function_.symbol(i);
  const Signature* signature = s.index < module_.symbol_count() ? module_.signature(s) : nullptr;
  std::string name = s.index < module_.symbol_count() ? shown_name(module_.symbol_name(s)) : "?";
  return name + "(" + list(i, 0, false, signature ? signature->parameters.size() : 0) + ")";
}

std::string FunctionWriter::call_through(Instruction i) {
  std::string out = "[" + value(operand(i, 0)) + "](" + list(i, 1, true) + ")";
  for (size_t k = 0; k < function_.result_count(i); ++k)
    out += (k ? ", " : " -> ") + function_.type(function_.result(i, k)).name();
  return out;
}

std::string FunctionWriter::target(Edge e, bool weighted) {
  std::string out = block(function_.to(e));
  for (size_t k = 0; k < function_.argument_count(e); ++k)
    out += (k ? ", " : "(") + value(function_.argument(e, k));
  if (function_.argument_count(e)) out += ")";
  if (weighted && function_.weight(e) != Function::no_weight) out += fmt::format(" {}", function_.weight(e));
  return out;
}

std::string FunctionWriter::when(Instruction i) {
  Edge yes = function_.edge(i, 0), no = function_.edge(i, 1);
  std::string out = value(operand(i, 0));
  bool counted = function_.weight(yes) != Function::no_weight && function_.weight(no) != Function::no_weight;
  if (function_.hint(i) == Function::Hint::Likely) out += " likely";
  if (function_.hint(i) == Function::Hint::Rarely) out += " rarely";
  if (function_.hint(i) != Function::Hint::None) counted = false;
  if (counted) out += fmt::format(" {}", function_.weight(yes));
  return out + " go " + target(yes, false) + " else " + target(no, counted);
}

std::string FunctionWriter::choose(Instruction i) {
  Type chosen = type(operand(i, 0));
  std::string out = typed(operand(i, 0)) + " { ";
  size_t last = function_.edge_count(i) - 1;
  for (size_t k = 0; k < last; ++k)
    out += (chosen.is_integer() ? literal_text(function_.case_value(i, k), chosen) : "?") + ": " +
           target(function_.edge(i, k), true) + ", ";
  return out + "else: " + target(function_.edge(i, last), true) + " }";
}

// ---- instructions -----------------------------------------------------------------------------------------

std::string FunctionWriter::results(Instruction i) {
  std::string out;
  for (size_t k = 0; k < function_.result_count(i); ++k)
    out += (k ? ", " : "") + value(function_.result(i, k));
  return out;
}

std::string FunctionWriter::body(Instruction i) {
  const OperationInfo& row = info(function_.op(i));
  std::string out = std::string(row.name) + " ";
  auto stated = [&] {
    return (function_.result_count(i) ? function_.type(function_.result(i)) : Type()).name() + " ";
  };
  switch (row.layout) {
    case Layout::Reserve: {
      const ReserveShape& shape = function_.reserve_shape(i);
      return out + fmt::format("{} align {}", shape.bytes, shape.align);
    }
    case Layout::AddressOf: return out + "of " + shown_name(module_.symbol_name(function_.symbol(i)));
    case Layout::Watch: return out + shown_name(module_.text(function_.watched(i))) + " = " + operands(i);
    case Layout::Call: return out + call(i);
    case Layout::CallThrough: return out + call_through(i);
    case Layout::Go: return out + target(function_.edge(i, 0), true);
    case Layout::When: return out + when(i);
    case Layout::Choose: return out + choose(i);
    case Layout::Return: return function_.operand_count(i) ? out + list(i, 0) : "return";
    case Layout::Trap:
    case Layout::Here: return std::string(row.name);
    default: return out + (info(row.layout).stated ? stated() : "") + operands(i);
  }
}

std::string FunctionWriter::said_of(Instruction i) {
  std::string out;
  if (function_.promises(i)) out += " promise " + words_of(function_.promises(i), promise_words());
  if (function_.permits(i)) out += " permit " + words_of(function_.permits(i), permit_words());
  return out;
}

std::string FunctionWriter::instruction(Instruction i) {
  std::string left = results(i), right = body(i) + said_of(i);
  return left.empty() ? right : left + " = " + right;
}

void FunctionWriter::comments_above(std::string& out, Instruction i) {
  auto found = instruction_comments_.find(i.index);
  if (found == instruction_comments_.end()) return;
  for (size_t k : found->second) out += "  " + function_.comments[k].text + "\n";
}

void FunctionWriter::block_lines(std::string& out, Block b) {
  std::vector<Line> lines;
  size_t widest_result = 0, widest_line = 0;
  for (Instruction i : function_.instructions(b)) {
    Line line{i, results(i), body(i) + said_of(i), position_text(module_, function_.position(i))};
    widest_result = std::max(widest_result, line.results.size());
    lines.push_back(std::move(line));
  }
  if (!columns_) widest_result = 0;
  auto width = [&](const Line& line) {
    const size_t results = line.results.empty() ? 0 : std::max(widest_result, line.results.size()) + 3;
    return 2 + results + line.body.size();
  };
  for (const Line& line : lines)
    if (columns_ && !line.position.empty()) widest_line = std::max(widest_line, width(line));
  auto pad = [&](size_t is, size_t should) { out.append(should > is ? should - is : 0, ' '); };
  for (const Line& line : lines) {
    comments_above(out, line.at);
    out += "  ";
    if (!line.results.empty()) {
      out += line.results;
      pad(line.results.size(), widest_result);
      out += " = ";
    }
    out += line.body;
    if (!line.position.empty()) {
      pad(width(line), widest_line);
      out.append(columns_ ? 4 : 1, ' ') += '@';
      out += line.position;
    }
    out += "\n";
  }
}

void FunctionWriter::write(std::string& out, Symbol symbol) {
  const SymbolRow& row = module_[symbol];
  for (size_t k = 0; k < function_.comments.size(); ++k) {
    const auto& c = function_.comments[k];
    if (c.above.exists()) instruction_comments_[c.above.index].push_back(k);
    if (c.above_label.exists()) label_comments_[c.above_label.index].push_back(k);
  }
  out += "func " + shown_name(module_.text(row.name)) + "(";
  const Signature& signature = function_.signature();
  for (size_t k = 0; k < signature.parameters.size(); ++k) {
    out += (k ? ", " : "") + value(function_.parameters()[k]) + ": " + signature.parameters[k].name();
    if (uint8_t marks = row.facts.marks_of(k)) out += " " + words_of(marks, mark_words(), " ");
  }
  out += ")";
  for (size_t k = 0; k < signature.results.size(); ++k)
    out += (k ? ", " : " -> ") + signature.results[k].name();
  out += facts_text(row.facts) + " {\n";
  for (Block b : readable_order(function_)) {
    if (b != function_.entry()) out += "\n";
    if (auto found = label_comments_.find(b.index); found != label_comments_.end())
      for (size_t k : found->second) out += function_.comments[k].text + "\n";
    out += block(b);
    auto parameters = function_.parameters(b);
    for (size_t k = 0; k < parameters.size(); ++k)
      out += (k ? ", " : "(") + value(parameters[k]) + ": " + function_.type(parameters[k]).name();
    out += parameters.empty() ? ":\n" : "):\n";
    block_lines(out, b);
  }
  for (const auto& c : function_.comments)
    if (!c.above.exists() && !c.above_label.exists()) out += c.text + "\n";
  out += "}\n";
}

}  // namespace porphyry::text
