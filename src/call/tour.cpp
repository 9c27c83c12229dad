#include "porphyry/call/tour.h"

#include <sstream>

namespace porphyry {
namespace {

std::string trimmed(std::string_view s) {
  size_t from = s.find_first_not_of(" \t\r"), to = s.find_last_not_of(" \t\r");
  return from == std::string_view::npos ? "" : std::string(s.substr(from, to - from + 1));
}

std::string answer(const CallOutcome& outcome, const PreparedCall& call) {
  if (outcome.end != CallOutcome::End::Result) return outcome.message;
  std::string out;
  for (const std::string& r : outcome.results) out += (out.empty() ? "" : ", ") + r;
  for (const MemoryPiece& p : call.pieces) {
    if (!outcome.results.empty() || !p.changed()) continue;
    size_t most = 12;  // as many as fit a third of a line
    while (most > 1 && p.numbers(most).size() > 34) --most;
    out += p.numbers(most);
  }
  return out;
}

std::vector<std::vector<uint8_t>> memory_of(const PreparedCall& call) {
  std::vector<std::vector<uint8_t>> out;
  for (const MemoryPiece& p : call.pieces)
    out.emplace_back(p.memory->bytes().begin(), p.memory->bytes().end());
  return out;
}

}  // namespace

Result<std::vector<TourStop>> run_tour(const Module& module, const Jit& jit, const machine::Target& target,
                                       const SourceText& tour, const std::string& folder) {
  std::vector<TourStop> out;
  Diagnostics problems;
  std::istringstream lines{std::string(tour.text())};
  std::string line;
  uint32_t offset = 0;
  for (; std::getline(lines, line); offset += static_cast<uint32_t>(line.size() + 1)) {
    std::string text = trimmed(std::string_view(line).substr(0, line.find('#')));
    if (text.empty()) continue;
    size_t bar = text.find('|');
    std::istringstream rest(bar == std::string::npos ? "" : text.substr(bar + 1));
    std::string function;
    if (!(rest >> function)) {
      problems.push_back(tour.at(offset, static_cast<uint32_t>(line.size()), "this line asks for no call",
                                 "a question | function argument …"));
      continue;
    }
    TourStop stop{trimmed(text.substr(0, bar)), trimmed(text.substr(bar + 1)), {}, {}, "", false};
    std::vector<std::string> words;
    for (std::string w; rest >> w;)
      words.push_back(w.starts_with("file:") ? "file:" + folder + "/" + w.substr(5) : w);
    auto call = prepare_call(module, function, words);
    if (!call) {
      for (Diagnostic d : call.why())
        problems.push_back(
            d.file.empty() ? tour.at(offset, static_cast<uint32_t>(line.size()), d.message, d.expected) : d);
      continue;
    }
    stop.evaluated = run_on_evaluator(module, *call);
    auto by_evaluator = memory_of(*call);
    stop.answer = answer(stop.evaluated, *call);
    for (MemoryPiece& p : call->pieces) p.reset();
    stop.native = run_on_processor(module, jit, target, *call);
    stop.agree = stop.evaluated.end == stop.native.end && stop.evaluated.results == stop.native.results &&
                 by_evaluator == memory_of(*call);
    out.push_back(std::move(stop));
  }
  if (!problems.empty()) return problems;
  return out;
}

}  // namespace porphyry
