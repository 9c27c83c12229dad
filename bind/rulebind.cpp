// rulebind IDENTIFIER OUTPUT RULES…: reads files of rewrite rules, refuses those that might undo each other,
// and writes them with their index as constant tables in C++.
#include <fmt/format.h>

#include "porphyry/base/files.h"
#include "porphyry/render/diagnostics.h"
#include "porphyry/rewrite/read.h"

namespace porphyry::rewrite {
namespace {

std::string quoted(std::string_view s) {
  std::string out = "\"";
  for (char c : s) {
    if (c == '"' || c == '\\') out += '\\';
    out += c;
  }
  return out + "\"";
}

std::string row(const Term& t) {
  return fmt::format("{{TermKind({}),Op({}),{},{},{},{},{},{},{},{},{},{{{},{},{}}},{}}}", int(t.kind),
                     int(t.op), t.operand_count, t.binding, t.type, t.of_type, t.promises, t.permits,
                     int(t.once), int(t.is_real), int(t.computed), t.operands[0], t.operands[1],
                     t.operands[2], t.number == INT64_MIN ? "INT64_MIN" : fmt::format("{}", t.number));
}
std::string row(const TypeClass& c) { return fmt::format("{{Relation({}),{}}}", int(c.relation), c.of); }
std::string row(const Condition& c) {
  return fmt::format("{{ConditionKind({}),{},{},{}}}", int(c.kind), c.term, c.a, c.b);
}
std::string row(const Rule& r) {
  return fmt::format("{{{},{{{},{}}},{},{},{},{},{},{},{},{},{},{}}}", r.pattern, r.becomes[0], r.becomes[1],
                     r.first_type, r.first_condition, r.type_count, r.condition_count, r.binding_count,
                     r.shapes, r.keeps, r.file, r.line, quoted(r.text));
}
std::string row(const Branch& b) { return fmt::format("{{Op({}),{}}}", int(b.op), b.to); }
std::string row(const Junction& j) {
  return fmt::format("{{{},{},{},{},{},{}}}", j.first_branch, j.branch_count, j.constant, j.any,
                     j.first_entry, j.entry_count);
}
std::string row(const Entry& e) { return fmt::format("{{{},{}}}", e.rule, e.pattern); }
std::string row(const std::string& s) { return quoted(s); }
std::string row(uint16_t n) { return fmt::format("{}", n); }

template <class Rows>
void table(std::string& out, std::string_view type, std::string_view name, const Rows& rows) {
  out += fmt::format("constexpr {} {}[] = {{\n", type, name);
  for (const auto& r : rows) out += row(r) + ",\n";
  out += "};\n";
}

std::string tables(const RuleBook& book, std::string_view identifier) {
  std::string out =
      "// Written by rulebind. Do not edit: change the rules.\n#include \"porphyry/rewrite/rule.h\"\n\n"
      "namespace porphyry::rewrite {\nnamespace {\n";
  table(out, "std::string_view", "files", book.files);
  table(out, "Rule", "rules", book.rules);
  table(out, "Term", "terms", book.terms);
  table(out, "TypeClass", "types", book.types);
  table(out, "Condition", "conditions", book.conditions);
  table(out, "Junction", "junctions", book.junctions);
  table(out, "Branch", "branches", book.branches);
  table(out, "Entry", "entries", book.entries);
  table(out, "uint16_t", "weights", book.weights);
  out += fmt::format(
      "}}  // namespace\nextern const RuleTable {0};\nconst RuleTable {0}{{files, rules, terms, types, "
      "conditions, junctions, branches, entries, weights}};\n}}  // namespace porphyry::rewrite\n",
      identifier);
  return out;
}

}  // namespace
}  // namespace porphyry::rewrite

int main(int count, char** arguments) {
  using namespace porphyry;
  if (count < 4) {
    fmt::print(stderr, "rulebind is called with an identifier, a file to write and files of rules\n");
    return 2;
  }
  std::vector<SourceText> files;
  for (int k = 3; k < count; ++k) {
    auto text = read_file(arguments[k]);
    if (!text) return fmt::print(stderr, "{}", render(text.why())), 1;
    std::string_view path = arguments[k];
    files.emplace_back(std::string(path.substr(path.rfind('/') + 1)), *text);
  }
  auto book = rewrite::read_rules(files);
  if (!book) return fmt::print(stderr, "{}", render(book.why())), 1;
  if (Diagnostics endless = rewrite::rules_that_do_not_end(*book); !endless.empty())
    return fmt::print(stderr, "{}", render(endless)), 1;
  std::string text = rewrite::tables(*book, arguments[1]);
  if (auto old = read_file(arguments[2]); old && *old == text)
    return 0;  // what was built from it is up to date
  Diagnostics failed = write_file(arguments[2], text);
  if (!failed.empty()) return fmt::print(stderr, "{}", render(failed)), 1;
}
