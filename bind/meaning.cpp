#include "meaning.h"

#include <algorithm>

namespace porphyry::bind {

using machine::MeaningKind;
using machine::MeaningStep;
using machine::Term;
using machine::TermKind;

void MeaningReader::run(const std::vector<Line>& lines, unsigned depth) {
  if (depth > 8) return binder_.complain(where_, "notions call one another without end", "notions that end");
  for (const Line& line : lines) {
    WordList w = words(line.text);
    auto notion_entry = binder_.notions_.find(w[0]);
    if (notion_entry != binder_.notions_.end())
      notion(line, notion_entry->second, w, depth);
    else
      statement(line, w);
  }
}

// A notion's lines with its words replaced by the caller's.
void MeaningReader::notion(const Line& line, const Entry& notion, const WordList& w, unsigned depth) {
  WordList head = words(notion.header.text);
  if (head.size() != w.size() + 1)
    return binder_.complain(line, "'" + w[0] + "' takes other words", notion.header.text);
  std::vector<Line> lines;
  for (const Line& l : notion.body) {
    std::string text;
    for (std::string word : words(l.text)) {
      for (size_t k = 2; k < head.size(); ++k)
        if (word == head[k]) {
          word = w[k - 1];
          break;
        }
      text += word + " ";
    }
    lines.push_back({text, line.number, line.indent});
  }
  run(lines, depth + 1);
}

void MeaningReader::add(MeaningStep step) {
  for (const Term& p : step.arguments) noted_read(p);
  form_.meaning.push_back(step);
  const Term& to = step.to;
  if (to.kind == TermKind::Operand) form_.operands[to.index].written = true;
  if (to.kind == TermKind::Register) form_.writes.add(to.index);
  if (to.kind == TermKind::Flag) form_.writes_flags = true;
}

void MeaningReader::noted_read(const Term& p) {
  if (p.kind == TermKind::Operand) form_.operands[p.index].read = true;
  if (p.kind == TermKind::Register && !form_.writes.has(p.index)) form_.reads.add(p.index);
  if (p.kind == TermKind::Flag) form_.reads_flags = true;
}

Term MeaningReader::source(const Line& line, const std::string& word) {
  auto operand = std::find(form_.operand_names.begin(), form_.operand_names.end(), word);
  if (operand != form_.operand_names.end()) {
    uint8_t k = static_cast<uint8_t>(operand - form_.operand_names.begin());
    return {TermKind::Operand, form_.operands[k].type, k, 0};
  }
  if (auto t = temporaries_.find(word); t != temporaries_.end()) return t->second;
  if (word == "true" || word == "false") return {TermKind::Literal, Type::boolean(), 0, word == "true"};
  if (word == "next") return {TermKind::Next, binder_.address_type(), 0, 0};
  if (auto r = binder_.register_named(word))
    return {TermKind::Register, Type::integer(r->bits), r->physical, 0};
  auto flag = std::find(binder_.book_.flags.begin(), binder_.book_.flags.end(), word);
  if (flag != binder_.book_.flags.end())
    return {TermKind::Flag, Type::boolean(), static_cast<uint8_t>(flag - binder_.book_.flags.begin()), 0};
  if (auto n = number(word)) return {TermKind::Literal, Type(), 0, static_cast<uint64_t>(*n)};
  binder_.complain(line, "'" + word + "' means nothing here",
                   "an operand, a register, a flag, a number or a name given above");
  return {};
}

Term MeaningReader::destination(const Line& line, const std::string& word, Type type) {
  auto operand = std::find(form_.operand_names.begin(), form_.operand_names.end(), word);
  auto flag = std::find(binder_.book_.flags.begin(), binder_.book_.flags.end(), word);
  bool known = operand != form_.operand_names.end() || flag != binder_.book_.flags.end() ||
               binder_.register_named(word);
  if (!known) return temporaries_[word] = {TermKind::Temporary, type, temporary_count_++, 0};
  Term p = source(line, word);
  if (p.type != type && type.exists())
    binder_.complain(line, "'" + word + "' has type " + p.type.name() + ", not " + type.name(),
                     "the same type");
  return p;
}

// [register]
Term MeaningReader::address(const Line& line, const WordList& w, size_t at) {
  if (at + 2 < w.size() && w[at] == "[" && w[at + 2] == "]") return source(line, w[at + 1]);
  binder_.complain(line, "an address is missing", "[register]");
  return {};
}

void MeaningReader::statement(const Line& line, const WordList& w) {
  if (w[0] == "open") {
    for (size_t k = 1; k < w.size(); ++k)
      if (w[k] != ",") add({MeaningKind::Open, Op::Add, destination(line, w[k], Type()), {}});
  } else if (w[0] == "trap") {
    Term always{TermKind::Literal, Type::boolean(), 0, 1};
    add({MeaningKind::Trap, Op::Add, {}, {w.size() == 3 ? source(line, w[2]) : always}});
  } else if (w[0] == "go") {
    Term always{TermKind::Literal, Type::boolean(), 0, 1};
    add({MeaningKind::Go, Op::Add, {}, {source(line, w[1]), w.size() == 4 ? source(line, w[3]) : always}});
  } else if (w[0] == "store") {
    add({MeaningKind::Store, Op::Add, {}, {source(line, w[1]), address(line, w, 3)}});
  } else if (w.size() > 2 && w[1] == "=") {
    assignment(line, w);
  } else {
    binder_.complain(line, "this says nothing that an instruction does",
                     "name = operation, open, trap, go, store or a notion");
  }
}

// name = [operation [type]] sources
void MeaningReader::assignment(const Line& line, const WordList& w) {
  auto op = operation_named(w[2]);
  if (!op) {
    Term from = source(line, w[2]);
    if (!from.type.exists()) from.type = destination(line, w[0], Type()).type;
    return add({MeaningKind::Copy, Op::Add, destination(line, w[0], from.type), {from}});
  }
  if (*op == Op::Load) {
    Type type = type_named(w[3]).value_or(Type());
    Term from = address(line, w, 4);
    return add({MeaningKind::Load, Op::Load, destination(line, w[0], type), {from}});
  }
  size_t at = 3;
  Type stated;
  Layout layout = info(*op).layout;
  if (layout == Layout::Convert || layout == Layout::Splat) {
    if (auto t = at < w.size() ? type_named(w[at]) : std::nullopt)
      stated = *t, ++at;
    else
      return binder_.complain(line, "the type of the result is missing", w[2] + " TYPE x");
  }
  MeaningStep step{MeaningKind::Compute, *op, {}, {}};
  size_t count = 0;
  for (; at < w.size(); ++at)
    if (w[at] != "," && count < 3) step.arguments[count++] = source(line, w[at]);
  if (count != info(*op).arity())
    return binder_.complain(line, "'" + w[2] + "' has other operands", std::to_string(info(*op).arity()));
  auto operand = one_type(line, *op, {step.arguments, count}, stated);
  if (!operand) return;
  step.to = destination(line, w[0], result_of(*op, *operand, stated));
  add(step);
}

// The type of the operands; numbers take it. A condition, an index and a lane have types of their own.
std::optional<Type> MeaningReader::one_type(const Line& line, Op op, std::span<Term> arguments, Type stated) {
  Layout layout = info(op).layout;
  if (layout == Layout::Lane || layout == Layout::Put) {
    Type lanes = arguments[0].type;
    if (!arguments[1].type.exists()) arguments[1].type = Type::integer(32);
    if (layout == Layout::Put && !arguments[2].type.exists()) arguments[2].type = lanes.element();
    if (layout == Layout::Lane || arguments[2].type == lanes.element()) return lanes;
    binder_.complain(line, "a lane of " + lanes.name() + " is no " + arguments[2].type.name(), "its element");
    return std::nullopt;
  }
  std::span<Term> alike = arguments.subspan(layout == Layout::Pick ? 1 : 0);
  Type operand;
  for (const Term& p : alike)
    if (p.type.exists()) operand = p.type;
  if (!operand.exists()) operand = stated.exists() ? stated.element() : stated;
  for (Term& p : alike) {
    if (!p.type.exists()) p.type = operand;
    if (p.type == operand) continue;
    binder_.complain(line, "operands of types " + p.type.name() + " and " + operand.name(), "one type");
    return std::nullopt;
  }
  return operand;
}

Type MeaningReader::result_of(Op op, Type operand, Type stated) {
  if (stated.exists()) return stated;
  switch (info(op).layout) {
    case Layout::Lane:
    case Layout::Reduce: return operand.element();
    case Layout::Interleave: return operand.with_lanes(2 * operand.lanes());
    default:
      return info(op).result == ResultRule::Truth ? Type::boolean().with_lanes(operand.lanes()) : operand;
  }
}

}  // namespace porphyry::bind
