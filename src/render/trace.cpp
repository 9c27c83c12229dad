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

// Without zeros in front.
std::string short_hex(const std::vector<NumberForms>& f) {
  return in_one(f, [](const NumberForms& n) {
    return "0x" + n.hex.substr(std::min(n.hex.find_first_not_of("0x"), n.hex.size() - 1));
  });
}

std::string value_of(const TraceLine& l) {
  if (l.value.empty()) return "";
  auto forms = number_forms(l.type, l.words);
  if (l.type.is_pointer() || l.type.is_bool()) return l.type.is_pointer() ? hex(forms) : decimal(forms);
  return decimal(forms);
}

// What an instruction of machine code wrote, a column each: where, decimal, hex, flags. Lanes in other forms
// than decimal are long: they, and the parts of floats, come with the bits.
std::vector<std::string> code_row_of(const TraceLine& l, bool bits) {
  std::string places, decimals, hexes, bitses, parts, flags;
  auto add = [](std::string& to, const std::string& what) {
    to += (to.empty() || what.empty() ? "" : "; ") + what;
  };
  for (const RegisterWrite& w : l.writes) {
    auto forms = number_forms(w.type, w.words);
    add(places, w.place + (w.value.empty() || w.value == w.place ? "" : " (" + w.value + ")"));
    if (!w.type.is_pointer()) add(decimals, decimal(forms));
    if (bits || !w.type.has_lanes()) add(hexes, bits ? hex(forms) : short_hex(forms));
    add(bitses, in_one(forms, [](const NumberForms& n) { return n.bits; }));
    if (w.type.is_float()) add(parts, in_one(forms, [](const NumberForms& n) { return n.parts; }));
  }
  for (const auto& [flag, set] : l.flags) add(flags, (set ? "" : "no ") + flag);
  const std::string place = l.function + (l.block.starts_with('+') ? " " : ".") + l.block;
  std::vector<std::string> row = {place, l.text, places, decimals, hexes, flags};
  if (bits) row.insert(row.end(), {bitses, parts});
  row.push_back(l.position);
  return row;
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

Json json_of(Type type, std::span<const uint64_t> words) {
  Json out = Json::array();
  for (const NumberForms& f : number_forms(type, words))
    out.push_back({{"decimal", f.decimal}, {"hex", f.hex}, {"bits", f.bits}, {"parts", f.parts}});
  return out;
}
Json json_of(const TraceLine& l, bool of_code) {
  Json out = {{"function", l.function},
              {"block", l.block},
              {"depth", l.depth},
              {"text", l.text},
              {"value", l.value},
              {"type", l.type.exists() ? l.type.name() : ""},
              {"lanes", l.value.empty() ? Json::array() : json_of(l.type, l.words)},
              {"position", l.position}};
  if (!of_code) return out;
  Json writes = Json::array(), flags = Json::object();
  for (const RegisterWrite& w : l.writes)
    writes.push_back({{"register", w.place},
                      {"value", w.value},
                      {"type", w.type.name()},
                      {"lanes", json_of(w.type, w.words)}});
  for (const auto& [flag, set] : l.flags) flags[flag] = set;
  out["writes"] = std::move(writes);
  out["flags"] = std::move(flags);
  return out;
}
Json json_of(const Trace& t) {
  Json lines = Json::array();
  for (const TraceLine& l : t.lines) lines.push_back(json_of(l, t.of_code));
  return {{"lines", lines},
          {"left_out_before", t.before},
          {"left_out_behind", t.behind},
          {"ends", t.seen.text()},
          {"steps", t.seen.steps}};
}

}  // namespace

std::string render(const Trace& t, bool bits) {
  std::vector<std::vector<std::string>> rows;
  for (const TraceLine& l : t.lines) rows.push_back(t.of_code ? code_row_of(l, bits) : row_of(l, bits));
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
