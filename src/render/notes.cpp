#include "porphyry/render/notes.h"

#include <fmt/format.h>

#include <algorithm>
#include <set>

#include "ink.h"
#include "notes_json.h"

namespace porphyry {

std::string_view kind_name(Note::Kind kind) {
  static constexpr std::string_view names[] = {"done", "declined", "seen", "left"};
  return names[static_cast<size_t>(kind)];
}

namespace {

const char* ink_of(Note::Kind kind) {
  static constexpr const char* inks[] = {green, amber, faint, violet};
  return inks[static_cast<size_t>(kind)];
}

std::string figures_text(const Note& n) {
  std::string out;
  for (const auto& [name, value] : n.figures) out += (out.empty() ? "" : ", ") + name + " " + value;
  return out;
}

std::string below(const Note& n, const std::string& indent) {
  std::string out;
  if (!n.figures.empty()) out += indent + figures_text(n) + "\n";
  if (!n.unlock.empty()) out += indent + "would act with: " + n.unlock + "\n";
  return out;
}

}  // namespace

std::string render(const Notes& notes, bool colour) {
  const Ink ink{colour};
  std::string out;
  for (const Note& n : notes)
    out +=
        fmt::format("{} {} in {}{}{}: {}: {}\n", n.pass, ink(ink_of(n.kind), std::string(kind_name(n.kind))),
                    n.function, n.position.empty() ? "" : " at " + n.position,
                    n.value.empty() ? "" : ", " + n.value, n.what, n.why) +
        below(n, "    ");
  return out;
}

Json notes_json(std::span<const Note> notes) {
  Json all = Json::array();
  for (const Note& n : notes) {
    Json figures = Json::object();
    for (const auto& [name, value] : n.figures) figures[name] = value;
    // Member by member: lists in braces are copied several times, and there are many notes.
    auto& row = all.emplace_back(Json::object()).get_ref<Json::object_t&>();
    row.reserve(9);
    row.emplace_back("pass", n.pass);
    row.emplace_back("kind", kind_name(n.kind));
    row.emplace_back("function", n.function);
    row.emplace_back("position", n.position);
    row.emplace_back("value", n.value);
    row.emplace_back("what", n.what);
    row.emplace_back("why", n.why);
    row.emplace_back("figures", std::move(figures));
    row.emplace_back("unlock", n.unlock);
  }
  return all;
}

std::string render_json(const Notes& notes) { return json_text(notes_json(notes)); }

namespace {

// "frost.fml:42:12" in parts; nothing where there is no line.
Json physical_location(const std::string& position, const std::string& file) {
  const size_t column = position.rfind(':');
  const size_t line =
      column == position.npos || column == 0 ? position.npos : position.rfind(':', column - 1);
  if (line == position.npos) return {{"artifactLocation", {{"uri", file}}}};
  return {{"artifactLocation", {{"uri", position.substr(0, line)}}},
          {"region",
           {{"startLine", std::max(1, std::atoi(position.c_str() + line + 1))},
            {"startColumn", std::max(1, std::atoi(position.c_str() + column + 1))}}}};
}

std::string rule_of(const Note& n) { return n.pass + "/" + std::string(kind_name(n.kind)); }

std::string sentence(const Note& n) {
  std::string out = n.what + ": " + n.why;
  if (!n.figures.empty()) out += " (" + figures_text(n) + ")";
  return out + (n.unlock.empty() ? "." : ". Would act with: " + n.unlock + ".");
}

}  // namespace

std::string render_sarif(const Notes& notes, const std::string& file, const std::string& version) {
  std::set<std::string> ids;
  for (const Note& n : notes) ids.insert(rule_of(n));
  Json rules = Json::array(), results = Json::array();
  for (const std::string& id : ids) {
    const size_t slash = id.rfind('/');
    rules.push_back(
        {{"id", id},
         {"shortDescription",
          {{"text", fmt::format("What the pass '{}' has {}", id.substr(0, slash), id.substr(slash + 1))}}}});
  }
  for (const Note& n : notes) {
    Json logical = {{"name", n.value.empty() ? n.function : n.value},
                    {"fullyQualifiedName", n.value.empty() ? n.function : n.function + "." + n.value},
                    {"kind", n.value.empty() ? "function" : "variable"}};
    Json location = {{"physicalLocation", physical_location(n.position, file)},
                     {"logicalLocations", Json::array({logical})}};
    const std::string id = rule_of(n);
    results.push_back({{"ruleId", id},
                       {"ruleIndex", std::distance(ids.begin(), ids.find(id))},
                       {"level", n.kind == Note::Kind::Left ? "warning" : "none"},
                       {"kind", n.kind == Note::Kind::Left ? "fail" : "informational"},
                       {"message", {{"text", sentence(n)}}},
                       {"locations", Json::array({location})}});
  }
  Json driver = {{"name", "porphyry"}, {"version", version}, {"rules", rules}};
  Json run = {{"tool", {{"driver", driver}}}, {"columnKind", "utf16CodeUnits"}, {"results", results}};
  return json_text({{"version", "2.1.0"}, {"runs", Json::array({run})}});
}

std::string render(const Annotated& text, const Notes& notes, bool colour) {
  const Ink ink{colour};
  constexpr size_t around = 3, short_enough = 120;
  std::vector<bool> shown(text.lines.size(), text.lines.size() <= short_enough);
  for (size_t k = 0; k < text.lines.size(); ++k)
    if (!text.lines[k].notes.empty())
      for (size_t near = k > around ? k - around : 0; near < std::min(k + around + 1, shown.size()); ++near)
        shown[near] = true;
  std::string out = ink(bold, text.file) + "\n";
  bool gap = false;
  for (size_t k = 0; k < text.lines.size(); ++k) {
    if (!shown[k]) {
      gap = true;
      continue;
    }
    if (std::exchange(gap, false)) out += ink(faint, "    …") + "\n";
    const Annotated::Line& line = text.lines[k];
    out += ink(faint, fmt::format("{:4} ", line.number)) + line.text + "\n";
    for (size_t note : line.notes) {
      const Note& n = notes[note];
      out += "       " + ink(ink_of(n.kind), fmt::format("{} {}", n.pass, kind_name(n.kind))) +
             fmt::format(": {}{}: {}\n", n.value.empty() ? "" : n.value + ": ", n.what, n.why) +
             below(n, "           ");
    }
  }
  if (!text.elsewhere.empty()) {
    Notes rest;
    for (size_t k : text.elsewhere) rest.push_back(notes[k]);
    out += "\nwithout a line here:\n" + render(rest, colour);
  }
  return out;
}

// ---- code -------------------------------------------------------------------------------------------------

namespace {

std::string tenths(uint32_t cost) { return fmt::format("{}.{}", cost / 10, cost % 10); }

}  // namespace

std::string render(const CodeAnswer& a, bool colour) {
  const Ink ink{colour};
  std::string out = ink(bold, fmt::format("{} in {}", a.operation, a.function)) + "\n";
  for (const auto& line : a.lines)
    out += fmt::format("  {:04x}  {:<36}{}\n", line.offset, line.text, ink(faint, line.position));
  if (!a.inside.empty())
    out += "  has no code of its own: it is part of the rule that covers '" + a.inside + "'\n";
  else if (a.lines.empty())
    out += "  has no code: nothing needs it in a register\n";
  if (a.life) {
    for (const auto& stay : a.life->stays)
      out += fmt::format("  lay in {} from {:04x} to {:04x}\n", stay.where, stay.from, stay.to);
    for (const std::string& why : a.life->reasons) out += "  moved " + why + "\n";
  }
  if (a.reasons.rules.empty()) return out;
  std::vector<std::vector<std::string>> rows = {{"", "rule", "instructions", "alone", "in all", ""}};
  size_t other_types = 0;
  const machine::RuleTried* last = nullptr;
  for (const auto& r : a.reasons.rules) {
    if (r.for_other_types) {
      ++other_types;
      continue;
    }
    // A rule of the book that is written once for several widths misses once.
    if (last && !r.matched && !last->matched && last->name == r.name && last->missed == r.missed) {
      rows.back()[2] = last->makes + " and others";
      continue;
    }
    last = &r;
    const char* mark = r.won ? "chosen" : r.matched ? "fits" : "";
    rows.push_back({ink(r.won ? green : faint, mark), r.name, r.makes, tenths(r.own_cost),
                    r.matched ? tenths(r.cost) : "", r.missed});
  }
  return out + "\n" + columns(rows, "lllrrl") +
         (other_types ? fmt::format("{} more for other types\n", other_types) : "") +
         "costs: instructions like a plain one; in all: with operands that nothing else uses\n";
}

std::string render_json(const CodeAnswer& a) {
  Json lines = Json::array(), rules = Json::array(), stays = Json::array();
  for (const auto& l : a.lines)
    lines.push_back({{"offset", l.offset}, {"text", l.text}, {"position", l.position}});
  for (const auto& r : a.reasons.rules)
    rules.push_back({{"name", r.name},
                     {"instructions", r.makes},
                     {"matched", r.matched},
                     {"won", r.won},
                     {"own_cost", r.own_cost},
                     {"cost", r.cost},
                     {"missed", r.missed},
                     {"for_other_types", r.for_other_types}});
  if (a.life)
    for (const auto& stay : a.life->stays)
      stays.push_back({{"where", stay.where}, {"from", stay.from}, {"to", stay.to}});
  return json_text({{"function", a.function},
                    {"operation", a.operation},
                    {"lines", lines},
                    {"inside", a.inside},
                    {"rules", rules},
                    {"stays", stays},
                    {"moves", a.life ? a.life->reasons : std::vector<std::string>()}});
}

}  // namespace porphyry
