// porphyry_prove [MILLISECONDS] [WORD]: proves every rewrite rule for every type that it is for: all widths
// to 16, then 32 and 64, with so much time for each question (10,000), and floats over a small format. Writes
// a table in Markdown.
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
      auto start = std::chrono::steady_clock::now();
      if (word.empty() || table.rules[k].text.find(word) != std::string_view::npos)
        verdicts[k] = prove_rule(context, table, table.rules[k], widths, milliseconds);
      if (auto s = std::chrono::duration<double>(std::chrono::steady_clock::now() - start).count(); s > 5) fmt::print(stderr, "SLOW {} {}\n", s, table.rules[k].text);
    }
  };
  std::vector<std::thread> threads;
  for (unsigned k = 0; k < std::thread::hardware_concurrency(); ++k) threads.emplace_back(work);
  for (auto& t : threads) t.join();

  size_t everywhere = 0, wrong = 0, never = 0;
  fmt::print("| rule | proved | too hard in {} ms |\n|---|---|---|\n", milliseconds);
  for (size_t k = 0; k < verdicts.size(); ++k) {
    const RuleVerdict& v = verdicts[k];
    if (v.proved == 0 && v.hard.empty() && v.refuted.empty() && !word.empty()) continue;
    std::string hard;
    for (const std::string& h : v.hard) hard += (hard.empty() ? "" : ", ") + h;
    fmt::print("| `{}` | {}{} | {} |\n", table.rules[k].text, v.proved, v.how, hard);
    everywhere += v.hard.empty() && v.refuted.empty() && v.proved;
    if (!v.refuted.empty())
      ++wrong, fmt::print(stderr, "{}:{}: wrong\n{}\n", table.files[table.rules[k].file], table.rules[k].line,
                          v.refuted);
    if (v.proved == 0 && v.hard.empty() && v.refuted.empty())
      ++never, fmt::print(stderr, "{}:{}: never applies: {}\n", table.files[table.rules[k].file],
                          table.rules[k].line, table.rules[k].text);
  }
  fmt::print("\n{} rules: {} proved wherever they were asked, {} wrong, {} that never apply.\n",
             verdicts.size(), everywhere, wrong, never);
  return wrong || never ? 1 : 0;
}
