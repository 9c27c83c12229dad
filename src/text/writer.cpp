#include "porphyry/text/writer.h"

#include <fmt/format.h>
#include <unistd.h>

#include <cerrno>
#include <cstdio>
#include <cstring>
#include <unordered_set>

#include "lexer.h"
#include "porphyry/text/literals.h"

namespace porphyry {
namespace text {
namespace {

bool is_plain_name(std::string_view s) {
  if (s.empty() || (s[0] >= '0' && s[0] <= '9')) return false;
  for (char c : s)
    if (!((c >= 'a' && c <= 'z') || (c >= 'A' && c <= 'Z') || (c >= '0' && c <= '9') || c == '_'))
      return false;
  return s != "true" && s != "false" && s != "null" && s != "inf" && s != "nan";
}

std::string shown(std::string_view name) { return is_plain_name(name) ? std::string(name) : quoted(name); }

class FunctionWriter {
 public:
  FunctionWriter(const Module& module, const Function& function) : module_(module), function_(function) {}

  void write(std::string& out, Symbol symbol);
  std::string instruction(Instruction i);
  std::string value(Value v);
  std::string block(Block b);

 private:
  struct Line {
    std::vector<std::string> above;  // comments
    std::string results, body, position;
  };

  std::string typed(Value v) {
    return value(v) + (function_.is_constant(v) ? ":" + function_.type(v).name() : "");
  }
  std::string list(Instruction i, size_t from);
  std::string plain_operands(Instruction i);
  std::string address(Instruction i, size_t from);
  std::string target(Edge e);
  std::string results(Instruction i);
  std::string body(Instruction i);
  void block_lines(std::string& out, Block b);
  std::string free_name(char letter, uint32_t index, bool for_block);
  void gather_names();

  const Module& module_;
  const Function& function_;
  std::unordered_set<std::string_view> taken_values_, taken_blocks_;
  bool gathered_ = false;
};

void FunctionWriter::gather_names() {
  if (gathered_) return;
  gathered_ = true;
  for (size_t k = 0; k < function_.value_limit(); ++k)
    if (Name n = function_.name(Value(k)); n.exists()) taken_values_.insert(module_.text(n));
  for (size_t k = 0; k < function_.block_limit(); ++k)
    if (Name n = function_.name(Block(k)); n.exists()) taken_blocks_.insert(module_.text(n));
}

std::string FunctionWriter::free_name(char letter, uint32_t index, bool for_block) {
  gather_names();
  std::string name = letter + std::to_string(index);
  const auto& taken = for_block ? taken_blocks_ : taken_values_;
  while (taken.contains(name)) name += "_";
  return name;
}

std::string FunctionWriter::value(Value v) {
  if (!v.exists()) return "?";
  if (function_.is_constant(v)) return literal_text(function_.constant_bits(v), function_.type(v));
  Name n = function_.name(v);
  return n.exists() ? shown(module_.text(n)) : free_name('v', v.index, false);
}

std::string FunctionWriter::block(Block b) {
  Name n = function_.name(b);
  return n.exists() ? shown(module_.text(n)) : free_name('b', b.index, true);
}

std::string FunctionWriter::list(Instruction i, size_t from) {
  std::string out;
  for (size_t k = from; k < function_.operand_count(i); ++k)
    out += (k > from ? ", " : "") + value(function_.operand(i, k));
  return out;
}

// Operands whose type follows from one another: where only literals stand, the first carries its type.
std::string FunctionWriter::plain_operands(Instruction i) {
  size_t first = function_.op(i) == Op::Pick ? 1 : 0, count = function_.operand_count(i);
  bool all_literal = true;
  for (size_t k = first; k < count; ++k) all_literal &= function_.is_constant(function_.operand(i, k));
  std::string out;
  for (size_t k = 0; k < count; ++k) {
    Value v = function_.operand(i, k);
    out += (k ? ", " : "") + (all_literal && k == first ? typed(v) : value(v));
  }
  return out;
}

std::string FunctionWriter::address(Instruction i, size_t from) {
  const Address& a = function_.address(i);
  std::string out = "[" + value(function_.operand(i, from));
  if (a.indexed) {
    Value index = function_.operand(i, from + 1);
    out += " + " + value(index);
    if (a.scale != 1 || function_.is_constant(index)) out += "*" + std::to_string(a.scale);
  }
  if (a.offset > 0) out += fmt::format(" + {}", a.offset);
  if (a.offset < 0) out += fmt::format(" - {}", 0 - static_cast<uint64_t>(a.offset));
  out += "]";
  if (function_.op(i) == Op::At) return out;
  if (a.align != 1) out += fmt::format(" align {}", a.align);
  if (a.is_volatile) out += " volatile";
  return out;
}

std::string FunctionWriter::target(Edge e) {
  std::string out = block(function_.to(e));
  for (size_t k = 0; k < function_.argument_count(e); ++k)
    out += (k ? ", " : "(") + value(function_.argument(e, k));
  return function_.argument_count(e) ? out + ")" : out;
}

std::string FunctionWriter::results(Instruction i) {
  std::string out;
  for (size_t k = 0; k < function_.result_count(i); ++k)
    out += (k ? ", " : "") + value(function_.result(i, k));
  return out;
}

std::string FunctionWriter::body(Instruction i) {
  const OperationInfo& row = info(function_.op(i));
  std::string out(row.name);
  switch (row.layout) {
    case Layout::One:
    case Layout::Two:
    case Layout::Three:
    case Layout::Pick: return out + " " + plain_operands(i);
    case Layout::Convert:
      return out + " " + function_.type(function_.result(i)).name() + " " + typed(function_.operand(i, 0));
    case Layout::Load: return out + " " + function_.type(function_.result(i)).name() + " " + address(i, 0);
    case Layout::Store: return out + " " + typed(function_.operand(i, 0)) + ", " + address(i, 1);
    case Layout::At: return out + " " + address(i, 0);
    case Layout::Reserve: {
      const ReserveShape& shape = function_.reserve_shape(i);
      return out + fmt::format(" {} align {}", shape.bytes, shape.align);
    }
    case Layout::AddressOf: return out + " of " + shown(module_.symbol_name(function_.symbol(i)));
    case Layout::Call:
      return out + " " + shown(module_.symbol_name(function_.symbol(i))) + "(" + list(i, 0) + ")";
    case Layout::Go: return out + " " + target(function_.edge(i, 0));
    case Layout::When:
      return out + " " + value(function_.operand(i, 0)) + " go " + target(function_.edge(i, 0)) + " else " +
             target(function_.edge(i, 1));
    case Layout::Return: return function_.operand_count(i) ? out + " " + list(i, 0) : out;
    case Layout::Trap: return out;
  }
  return out;
}

std::string FunctionWriter::instruction(Instruction i) {
  std::string left = results(i);
  return left.empty() ? body(i) : left + " = " + body(i);
}

void FunctionWriter::block_lines(std::string& out, Block b) {
  std::vector<Line> lines;
  size_t widest_result = 0, widest_line = 0;
  size_t comment = 0;
  auto next_comment = [&](Instruction i) {
    while (comment < function_.comments.size() && function_.comments[comment].above != i) ++comment;
    return comment < function_.comments.size();
  };
  for (Instruction i = function_.first(b); i.exists(); i = function_.next(i)) {
    Line line{{}, results(i), body(i), position_text(module_, function_.position(i))};
    for (comment = 0; !function_.comments.empty() && next_comment(i); ++comment)
      line.above.push_back(function_.comments[comment].text);
    widest_result = std::max(widest_result, line.results.size());
    lines.push_back(std::move(line));
  }
  for (Line& line : lines) {
    std::string text = line.results.empty() ? "  " : fmt::format("  {:<{}} = ", line.results, widest_result);
    line.body = text + line.body;
    if (!line.position.empty()) widest_line = std::max(widest_line, line.body.size());
  }
  for (const Line& line : lines) {
    for (const std::string& c : line.above) out += "  " + c + "\n";
    out += line.position.empty() ? line.body
                                 : fmt::format("{:<{}}    @{}", line.body, widest_line, line.position);
    out += "\n";
  }
}

void FunctionWriter::write(std::string& out, Symbol symbol) {
  const SymbolRow& row = module_[symbol];
  out += row.is_local ? "local func " : "func ";
  out += shown(module_.text(row.name)) + "(";
  const Signature& signature = function_.signature();
  for (size_t k = 0; k < signature.parameters.size(); ++k)
    out += (k ? ", " : "") + value(function_.parameters()[k]) + ": " + signature.parameters[k].name();
  out += ")";
  for (size_t k = 0; k < signature.results.size(); ++k)
    out += (k ? ", " : " -> ") + signature.results[k].name();
  out += " {\n";
  for (Block b = function_.entry(); b.exists(); b = function_.next(b)) {
    if (b != function_.entry()) out += "\n";
    for (const auto& c : function_.comments)
      if (c.above_label == b) out += c.text + "\n";
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

std::string piece_text(const Module& module, const DataPiece& piece) {
  std::string out;
  auto comma = [&] { return out.ends_with(": ") ? "" : ", "; };
  switch (piece.kind) {
    case DataPiece::Kind::Zero: return fmt::format("zero: {}", piece.zero_bytes);
    case DataPiece::Kind::Bytes: return "bytes: " + quoted(piece.bytes);
    case DataPiece::Kind::Addresses:
      out = "address: ";
      for (Symbol s : piece.symbols) out += comma() + shown(module.symbol_name(s));
      return out;
    case DataPiece::Kind::Numbers:
      out = piece.type.name() + ": ";
      for (uint64_t n : piece.numbers) out += comma() + literal_text(n, piece.type);
      return out;
  }
  return out;
}

std::string item_text(const Module& module, Symbol s) {
  const SymbolRow& row = module[s];
  std::string name = shown(module.text(row.name));
  switch (row.kind) {
    case SymbolKind::Function: return write_text(module, s);
    case SymbolKind::ExternData: return "extern data " + name + "\n";
    case SymbolKind::ExternFunction: return "extern func " + name + row.signature.text() + "\n";
    case SymbolKind::Data: break;
  }
  std::string out = (row.is_local ? "local data " : "data ") + name + (row.data.is_const ? " const" : "");
  if (row.data.align != 1) out += fmt::format(" align {}", row.data.align);
  for (size_t k = 0; k < row.data.pieces.size(); ++k)
    out += (k ? "; " : " holds ") + piece_text(module, row.data.pieces[k]);
  return out + "\n";
}

}  // namespace
}  // namespace text

std::string write_text(const Module& module) {
  std::string out;
  for (const auto& c : module.comments)
    if (c.at_top) out += c.text + "\n";
  out += "module " + text::shown(module.text(module.name())) + "\nlayout little\n";
  for (const SourceFile& f : module.sources)
    out += fmt::format("source {} {}\n", f.number, text::quoted(f.name));
  for (size_t k = 0; k < module.symbol_count(); ++k) {
    SymbolKind kind = module[Symbol(k)].kind;
    bool apart = k == 0 || kind == SymbolKind::Function || module[Symbol(k - 1)].kind == SymbolKind::Function;
    if (apart) out += "\n";
    for (const auto& c : module.comments)
      if (c.above == Symbol(k) && !c.at_top) out += c.text + "\n";
    out += text::item_text(module, Symbol(k));
  }
  for (const auto& c : module.comments)
    if (!c.above.exists() && !c.at_top) out += c.text + "\n";
  return out;
}

std::string write_text(const Module& module, Symbol function) {
  std::string out;
  text::FunctionWriter(module, module.function(function)).write(out, function);
  return out;
}

std::string write_text(const Module& module, const Function& function, Instruction i) {
  return text::FunctionWriter(module, function).instruction(i);
}

std::string value_text(const Module& module, const Function& function, Value v) {
  return text::FunctionWriter(module, function).value(v);
}

std::string block_text(const Module& module, const Function& function, Block b) {
  return text::FunctionWriter(module, function).block(b);
}

std::string position_text(const Module& module, Position p) {
  std::string out;
  Position merged = p.exists() ? module.position(p).merged_with : Position();
  for (; p.exists(); p = module.position(p).inlined_at) {
    const PositionRow& row = module.position(p);
    out += fmt::format("{}{}:{}:{}", out.empty() ? "" : " in @", row.source, row.line, row.column);
  }
  if (merged.exists()) out += " and @" + position_text(module, merged);
  return out;
}

Diagnostics write_file(const std::string& path, std::string_view bytes) {
  auto failed = [&] {
    return Diagnostics{
        complaint("cannot write '" + path + "': " + std::strerror(errno), "a place that can be written")};
  };
  // Special files (terminals, /dev/null) are written in place: there is nothing to rename over.
  std::string beside = path.starts_with("/dev/") ? path : fmt::format("{}.{}.part", path, getpid());
  std::FILE* file = std::fopen(beside.c_str(), "wb");
  if (!file) return failed();
  bool good = std::fwrite(bytes.data(), 1, bytes.size(), file) == bytes.size();
  good = std::fflush(file) == 0 && good;
  int error = errno;
  good = std::fclose(file) == 0 && good;
  if (good && beside != path) {
    good = std::rename(beside.c_str(), path.c_str()) == 0;
    error = errno;
  }
  if (good) return {};
  if (beside != path) std::remove(beside.c_str());
  errno = error;
  return failed();
}

}  // namespace porphyry
