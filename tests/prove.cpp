// porphyry_prove [MILLISECONDS] [WORD [small]]: proves every rewrite rule for every type that it is for: all
// widths to 16, then 32 and 64 (a few with `small`), with so much time for each question (10,000), and floats
// over small formats; of rules with WORD in them, or all. Writes a page in Markdown.
#include <fmt/format.h>

#include <cstdlib>
#include <map>
#include <thread>

#include "porphyry/passes/passes.h"
#include "support/rule_types.h"

int main(int count, char** arguments) {
  using namespace porphyry;
  using namespace porphyry::testing;
  unsigned milliseconds = count > 1 ? static_cast<unsigned>(std::atoi(arguments[1])) : 10000;
  std::string_view word = count > 2 ? arguments[2] : "";
  Widths widths = count > 3 ? tested_widths() : report_widths();
  const rewrite::RuleTable& table = standard_rules();
  std::vector<RuleVerdict> verdicts(table.rules.size());
  std::atomic<size_t> next = 0;
  auto work = [&] {
    for (size_t k; (k = next++) < table.rules.size();) {
      z3::context context;
      if (word.empty() || table.rules[k].text.find(word) != std::string_view::npos)
        verdicts[k] = prove_rule(context, table, table.rules[k], widths, milliseconds);
    }
  };
  std::vector<std::thread> threads;
  for (unsigned k = 0; k < std::thread::hardware_concurrency(); ++k) threads.emplace_back(work);
  for (auto& t : threads) t.join();

  size_t everywhere = 0, wrong = 0, never = 0;
  fmt::print(
      "# The rewrite rules\n\nWritten by `scripts/prove`. Rules are the files of `src/passes/rules/`, whose "
      "grammar stands in "
      "`rewrite/read.h`. Each is asked of a solver for every choice of types that it is for: widths to 16, "
      "32 and 64, and lanes for "
      "those of lanes. Promises, traps and values that may be anything are part of the question. A rule on "
      "floats is tried with every "
      "operand of floats of 6 bits and, with up to two operands, of 8. Where the solver gave up after {} ms, "
      "the rule is tested with "
      "random operands only.\n",
      milliseconds);
  std::string_view file;
  for (size_t k = 0; k < verdicts.size(); ++k) {
    const RuleVerdict& v = verdicts[k];
    const rewrite::Rule& rule = table.rules[k];
    if (table.files[rule.file] != file) {
      file = table.files[rule.file];
      fmt::print("\n## {}\n\n| rule | proved | only tested |\n|---|---|---|\n", file);
    }
    std::string hard;
    for (const std::string& h : v.hard) hard += (hard.empty() ? "" : ", ") + h;
    std::string text(rule.text);
    for (size_t at = 0; (at = text.find('|', at)) != text.npos; at += 2) text.replace(at, 1, "\\|");
    fmt::print("| `{}` | {}{} | {} |\n", text, v.proved, v.how, hard);
    everywhere += v.hard.empty() && v.refuted.empty() && v.proved;
    if (!v.refuted.empty()) ++wrong, fmt::print(stderr, "{}:{}: wrong\n{}\n", file, rule.line, v.refuted);
    if (v.proved == 0 && v.hard.empty() && v.refuted.empty() && word.empty())
      ++never, fmt::print(stderr, "{}:{}: never applies: {}\n", file, rule.line, text);
  }
  fmt::print("\n{} rules: {} proved wherever they were asked, {} wrong, {} that never apply.\n",
             verdicts.size(), everywhere, wrong, never);
  return wrong || never ? 1 : 0;
}
