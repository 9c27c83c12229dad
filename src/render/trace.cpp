#include "porphyry/render/trace.h"

#include <fmt/format.h>

#include <algorithm>

#include "ink.h"
#include "json.h"

namespace porphyry {
namespace {

// Lanes in one line: "{1, 2, 3}".
template <class Part>
std::string in_one(const std::vector<NumberForms>& forms, Part part) {
  if (forms.size() == 1) return part(forms[0]);
  std::string out;
  for (const NumberForms& f : forms) out += (out.empty() ? "{" : ", ") + part(f);
  return forms.empty() ? "" : out + "}";
}
std::string decimal(const std::vector<NumberForms>& f) {
  return in_one(f, [](const NumberForms& n) { return n.decimal; });
}
std::string hex(const std::vector<NumberForms>& f) {
  return in_one(f, [](const NumberForms& n) { return n.hex; });
}

std::string value_of(const TraceLine& l) {
  if (l.value.empty()) return "";
  auto forms = number_forms(l.type, l.words);
  if (l.type.is_pointer() || l.type.is_bool()) return l.type.is_pointer() ? hex(forms) : decimal(forms);
  return decimal(forms);
}

std::vector<std::string> row_of(const TraceLine& l, bool bits) {
  std::vector<std::string> row = {std::string(2 * (l.depth - 1), ' ') + l.function + "." + l.block, l.text,
                                  value_of(l)};
  auto forms = l.value.empty() ? std::vector<NumberForms>() : number_forms(l.type, l.words);
  const bool plain = l.type.is_pointer() || l.type.is_bool();
  row.push_back(plain ? "" : hex(forms));
  if (bits) row.push_back(plain ? "" : in_one(forms, [](const NumberForms& n) { return n.bits; }));
  row.push_back(l.type.is_float() ? in_one(forms, [](const NumberForms& n) { return n.parts; }) : "");
  row.push_back(l.position);
  return row;
}

std::string left_out(size_t count, const char* where) {
  return count ? fmt::format("… {} {}\n", counted(count, "line"), where) : "";
}

Json json_of(const TraceLine& l) {
  Json forms = Json::array();
  if (!l.value.empty())
    for (const NumberForms& f : number_forms(l.type, l.words))
      forms.push_back({{"decimal", f.decimal}, {"hex", f.hex}, {"bits", f.bits}, {"parts", f.parts}});
  return {{"function", l.function}, {"block", l.block},      {"depth", l.depth},
          {"text", l.text},         {"value", l.value},      {"type", l.type.exists() ? l.type.name() : ""},
          {"lanes", forms},         {"position", l.position}};
}
Json json_of(const Trace& t) {
  Json lines = Json::array();
  for (const TraceLine& l : t.lines) lines.push_back(json_of(l));
  return {{"lines", lines},
          {"left_out_before", t.before},
          {"left_out_behind", t.behind},
          {"ends", t.seen.text()},
          {"steps", t.seen.steps}};
}

}  // namespace

std::string render(const Trace& t, bool bits) {
  std::vector<std::vector<std::string>> rows;
  for (const TraceLine& l : t.lines) rows.push_back(row_of(l, bits));
  return left_out(t.before, "before") + columns(rows, "l") + left_out(t.behind, "behind") +
         fmt::format("gives {} in {}\n", t.seen.text(), counted(t.seen.steps, "step"));
}

std::string render_json(const Trace& t) { return json_text(json_of(t)); }

std::string render(const TraceComparison& both) {
  constexpr size_t around = 20, short_enough = 60;
  size_t from = 0, to = both.pairs.size();
  if (to > short_enough) {
    const size_t at = both.first_difference == TracePair::none ? 0 : both.first_difference;
    from = at > around ? at - around : 0;
    to = std::min(to, at + around + 1);
  }
  std::vector<std::vector<std::string>> rows = {{"", "left", "", "right", ""}};
  for (size_t k = from; k < to; ++k) {
    const TracePair& p = both.pairs[k];
    const TraceLine* l = p.left == TracePair::none ? nullptr : &both.left.lines[p.left];
    const TraceLine* r = p.right == TracePair::none ? nullptr : &both.right.lines[p.right];
    const char* mark = k == both.first_difference ? ">>" : p.differs ? " >" : l && r ? " =" : "";
    rows.push_back({mark, l ? l->text : "", l ? value_of(*l) : "", r ? r->text : "", r ? value_of(*r) : ""});
  }
  std::string out = left_out(from, "before that agree or stand on one side") + columns(rows, "l") +
                    left_out(both.pairs.size() - to, "behind");
  if (both.left.behind || both.right.behind)
    out += fmt::format("not compared: {} of the left run, {} of the right one\n",
                       counted(both.left.behind, "line"), counted(both.right.behind, "line"));
  if (both.first_difference != TracePair::none) {
    const TraceLine& l = both.left.lines[both.pairs[both.first_difference].left];
    const TraceLine& r = both.right.lines[both.pairs[both.first_difference].right];
    out += fmt::format("first difference: {} in {}{}{}: {} on the left, {} on the right\n",
                       l.value.empty() ? l.text : l.value, l.function, l.position.empty() ? "" : " at ",
                       l.position, l.value.empty() ? l.text : value_of(l),
                       r.value.empty() ? r.text : value_of(r));
  } else {
    out += "all values that both make are the same\n";
  }
  return out + (both.deviation.empty() ? "both give " + both.left.seen.text() + "\n"
                                       : "the right one gives " + both.deviation + "\n");
}

std::string render_json(const TraceComparison& both) {
  Json pairs = Json::array();
  auto at = [](size_t k) { return k == TracePair::none ? Json(nullptr) : Json(k); };
  for (const TracePair& p : both.pairs)
    pairs.push_back({{"left", at(p.left)}, {"right", at(p.right)}, {"differs", p.differs}});
  return json_text({{"left", json_of(both.left)},
                    {"right", json_of(both.right)},
                    {"pairs", pairs},
                    {"first_difference", at(both.first_difference)},
                    {"deviation", both.deviation}});
}

}  // namespace porphyry
