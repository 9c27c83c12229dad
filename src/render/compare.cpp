#include "porphyry/render/compare.h"

#include <fmt/format.h>

#include <algorithm>

#include "ink.h"
#include "totals.h"

namespace porphyry {
namespace {

std::string number(double v, const Figure& figure) {
  if (figure.count) return fmt::format("{:.0f}", v);
  return v < 100 ? fmt::format("{:.1f}", v) : fmt::format("{:.0f}", v);
}

std::string cell(const ComparedFunction& f, size_t build, const Figure& figure) {
  auto v = value_of(f, build, figure);
  if (!v) return "-";
  std::string out = number(*v, figure);
  if (figure.name == "time") out += fmt::format(" ±{:.1f}", f.times[build]->spread);
  return out;
}

// The functions that a build alone has, in words.
std::string only_in(const Compared& table) {
  std::string out;
  for (size_t b = 0; b < table.builds.size(); ++b) {
    std::vector<std::string> names;
    for (const ComparedFunction& f : table.functions)
      if (!f.everywhere() && f.totals[b]) names.push_back(f.name);
    if (!names.empty()) out += fmt::format("not in all, in {}: {}\n", table.builds[b], listed(names, "and"));
  }
  return out.empty() ? out : "\n" + out;
}

bool differs(const Compared& table, const Figure& figure) {
  for (const ComparedFunction& f : table.functions)
    for (size_t b = 1; b < table.builds.size(); ++b)
      if (auto v = value_of(f, b, figure), first = value_of(f, 0, figure); v && first && v != first)
        return true;
  return false;
}

std::string two_sided(const Compared& table, const Figure& by) {
  std::vector<const Figure*> shown;
  for (const Figure& f : all_figures())
    if (f.name == by.name || differs(table, f)) shown.push_back(&f);
  std::vector<std::vector<std::string>> rows(1, {"function"});
  for (const Figure* f : shown) rows[0].emplace_back(f->name);
  for (const ComparedFunction& f : table.functions) {
    if (!f.everywhere()) continue;
    std::vector<std::string> row = {f.name};
    for (const Figure* figure : shown) {
      std::string a = cell(f, 0, *figure), b = cell(f, 1, *figure);
      row.push_back(a == b ? a : a + " to " + b);
    }
    rows.push_back(std::move(row));
  }
  std::vector<std::string> sum = {"all"};
  for (const Figure* f : shown)
    sum.push_back(!f->count || f->of_allocation
                      ? ""
                      : fmt::format("{} to {}", table.sums[0].*f->count, table.sums[1].*f->count));
  rows.push_back(std::move(sum));
  return fmt::format("{} to {}\n\n", table.builds[0], table.builds[1]) + columns(rows, "lr") + only_in(table);
}

// One figure; the best of each row in colour.
std::string grid(const Compared& table, const Figure& by, const Ink& ink) {
  std::vector<std::vector<std::string>> rows(1, {std::string(by.name)});
  for (const std::string& b : table.builds) rows[0].push_back(b);
  for (const ComparedFunction& f : table.functions) {
    if (by.count == nullptr &&
        !std::count_if(f.times.begin(), f.times.end(), [](const auto& t) { return t.has_value(); }))
      continue;
    std::vector<std::string> row = {f.name};
    std::optional<double> best;
    for (size_t b = 0; b < table.builds.size(); ++b)
      if (auto v = value_of(f, b, by)) best = best ? std::min(*best, *v) : *v;
    for (size_t b = 0; b < table.builds.size(); ++b) {
      auto v = value_of(f, b, by);
      row.push_back(v && v == best ? ink(green, cell(f, b, by)) : cell(f, b, by));
    }
    rows.push_back(std::move(row));
  }
  std::vector<std::string> sum = {"all"};
  for (const auto& s : table.sums) sum.push_back(by.count ? std::to_string(s.*by.count) : "");
  if (by.count) rows.push_back(std::move(sum));
  return columns(rows, "lr");
}

constexpr const char* kind_names[] = {"same", "alike", "moved", "left", "right"};

std::string legend(const std::vector<AlignedLine>& lines) {
  size_t counts[5] = {};
  for (const AlignedLine& l : lines) ++counts[static_cast<size_t>(l.kind)];
  return fmt::format(
      "= {} the same, ~ {} alike but for registers, o {} moved, < {} only left, > {} only right\n", counts[0],
      counts[1], counts[2], counts[3], counts[4]);
}

}  // namespace

std::string render(const Compared& table, const Figure& by, bool colour) {
  std::string out = table.builds.size() == 2 ? two_sided(table, by) : grid(table, by, Ink{colour});
  if (table.timed)
    out +=
        "\ntimes: nanoseconds a call, medians of rounds taken in turn, ± half the distance of their "
        "quartiles\n";
  return out;
}

std::string render_json(const Compared& table) {
  Json functions = Json::array(), sums = Json::array();
  for (const ComparedFunction& f : table.functions) {
    Json builds = Json::array();
    for (size_t b = 0; b < table.builds.size(); ++b) {
      Json one = f.totals[b] ? totals_json(*f.totals[b]) : Json(nullptr);
      if (f.times[b])
        one["time"] = {{"median", f.times[b]->median}, {"spread", f.times[b]->spread},
                       {"least", f.times[b]->least},   {"cycles", f.times[b]->cycles},
                       {"rounds", f.times[b]->rounds}, {"calls", f.times[b]->calls}};
      builds.push_back(one);
    }
    functions.push_back({{"name", f.name}, {"change", f.change}, {"builds", builds}});
  }
  for (const auto& s : table.sums) sums.push_back(totals_json(s));
  return json_text({{"builds", table.builds}, {"functions", functions}, {"sums", sums}});
}

std::string render(const std::vector<AlignedLine>& lines, const Build& left, const Build& right,
                   std::string_view function, bool colour) {
  static constexpr const char* marks[] = {"=", "~", "o", "<", ">"};
  const Ink ink{colour};
  const auto& l = left.functions[left.find(function)];
  const auto& r = right.functions[right.find(function)];
  const auto left_lines = lines_of(l), right_lines = lines_of(r);
  std::vector<std::vector<std::string>> rows = {{left.name, "", right.name, ""}};
  for (const AlignedLine& line : lines) {
    const auto* a = line.left == AlignedLine::none ? nullptr : left_lines[line.left];
    const auto* b = line.right == AlignedLine::none ? nullptr : right_lines[line.right];
    const size_t kind = static_cast<size_t>(line.kind);
    const char* shade = kind < 2 ? faint : kind == 2 ? violet : a ? amber : green;
    auto position = a && !a->position.empty() ? a->position : b ? b->position : "";
    rows.push_back({a ? ink(kind < 2 ? "0" : shade, a->text) : "", ink(shade, marks[kind]),
                    b ? ink(kind < 2 ? "0" : shade, b->text) : "", ink(faint, position)});
  }
  return fmt::format("{}: {} instructions, {} bytes against {} instructions, {} bytes\n", function,
                     l.totals.instructions, l.totals.bytes, r.totals.instructions, r.totals.bytes) +
         columns(rows, "l") + legend(lines);
}

std::string render_json(const std::vector<AlignedLine>& lines, const Build& left, const Build& right,
                        std::string_view function) {
  const auto left_lines = lines_of(left.functions[left.find(function)]);
  const auto right_lines = lines_of(right.functions[right.find(function)]);
  Json all = Json::array();
  auto side = [](size_t at, const auto& of) -> Json {
    if (at == AlignedLine::none) return nullptr;
    return {{"offset", of[at]->offset}, {"text", of[at]->text}, {"position", of[at]->position}};
  };
  for (const AlignedLine& line : lines)
    all.push_back({{"kind", kind_names[static_cast<size_t>(line.kind)]},
                   {"left", side(line.left, left_lines)},
                   {"right", side(line.right, right_lines)}});
  return json_text({{"function", function}, {"left", left.name}, {"right", right.name}, {"lines", all}});
}

}  // namespace porphyry
