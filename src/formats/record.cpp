#include "porphyry/formats/record.h"

#include <fmt/format.h>

#include <charconv>
#include <sstream>

#include "porphyry/base/hash.h"
#include "porphyry/ir/body_text.h"
#include "porphyry/ir/order.h"

namespace porphyry {
namespace {

constexpr std::string_view first_line = "porphyry record 1";

std::vector<Edge> edges_in_order(const Function& f) {
  std::vector<Edge> out;
  for (Block b : reverse_postorder(f))
    for (Edge e : f.edges(b)) out.push_back(e);
  return out;
}

// Of what the function does, whatever its weights are and wherever others stand in the module.
uint64_t hash_of_body(const Module& module, const Function& f) {
  return hash_of(
      body_text(f, {.weights = false, .symbol = [&](Symbol s) { return hash_of(module.symbol_name(s)); }}));
}

struct Line {
  uint64_t hash = 0;
  std::vector<uint64_t> counts;
  std::string name;
};
std::optional<Line> read_line(std::string_view text) {
  Line out;
  auto number = [&](uint64_t& into, int base) {
    size_t space = text.find(' ');
    if (space == text.npos || space == 0) return false;
    auto [end, error] = std::from_chars(text.data(), text.data() + space, into, base);
    if (error != std::errc() || end != text.data() + space) return false;
    text.remove_prefix(space + 1);
    return true;
  };
  uint64_t edges;
  if (!number(out.hash, 16) || !number(edges, 10) || edges > text.size()) return std::nullopt;
  out.counts.resize(edges);
  for (uint64_t& c : out.counts)
    if (!number(c, 10) || c == Function::no_weight) return std::nullopt;
  out.name = text;
  if (out.name.empty()) return std::nullopt;
  return out;
}

}  // namespace

std::string write_record(const Module& module, const EdgeCounts& counts) {
  std::string out = std::string(first_line) + "\n";
  for (Symbol s : module.functions()) {
    if (!counts.ran(s)) continue;
    const Function& f = module.function(s);
    std::vector<Edge> edges = edges_in_order(f);
    out += fmt::format("{:016x} {}", hash_of_body(module, f), edges.size());
    for (Edge e : edges) out += fmt::format(" {}", counts.taken(s, e));
    out += fmt::format(" {}\n", module.symbol_name(s));
  }
  return out;
}

Diagnostics apply_record(Module& module, const SourceText& record) {
  Diagnostics wrong, stale;
  std::vector<Line> lines;
  std::istringstream text{std::string(record.text())};
  std::string line;
  uint32_t offset = 0;
  for (bool first = true; std::getline(text, line); offset += static_cast<uint32_t>(line.size() + 1)) {
    uint32_t length = static_cast<uint32_t>(line.size());
    if (std::exchange(first, false)) {
      if (line != first_line)
        return {record.at(offset, length, "this is no record of a run", std::string(first_line))};
      continue;
    }
    if (auto read = read_line(line))
      lines.push_back(std::move(*read));
    else if (wrong.size() < 20)
      wrong.push_back(record.at(offset, length, "this line tells of no function", "HASH EDGES COUNT … NAME"));
  }
  if (record.text().empty()) return {record.at(0, 0, "this is no record of a run", std::string(first_line))};
  if (!wrong.empty()) return wrong;
  for (const Line& l : lines) {
    Symbol s = module.find(l.name);
    bool there = s.exists() && module.is_function(s);
    std::vector<Edge> edges = there ? edges_in_order(module.function(s)) : std::vector<Edge>();
    if (!there || edges.size() != l.counts.size() || hash_of_body(module, module.function(s)) != l.hash) {
      stale.push_back(complaint(fmt::format("the record is stale: '{}' {}", l.name,
                                            there ? "has changed since" : "is no function of this program"),
                                "a record of this program"));
      continue;
    }
    for (size_t k = 0; k < edges.size(); ++k) module.function(s).set_weight(edges[k], l.counts[k]);
  }
  return stale;
}

}  // namespace porphyry
