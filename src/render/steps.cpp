#include "porphyry/render/steps.h"

#include <fmt/format.h>

#include "ink.h"
#include "json.h"

namespace porphyry {
namespace {

std::string signed_number(int64_t n) { return n > 0 ? fmt::format("+{}", n) : std::to_string(n); }

std::string where(const std::string& function) { return function.empty() ? "the module" : function; }

std::string steps_table(const std::vector<StepRecord>& steps, const StepQuestion& asked) {
  std::vector<std::vector<std::string>> rows = {{"step", "pass", "function", "instructions", ""}};
  size_t unchanged = 0, number = 0;
  for (const StepRecord& s : steps) {
    ++number;
    const bool is_asked = (asked.pass.empty() || s.pass == asked.pass) &&
                          (asked.function.empty() || s.function.empty() || s.function == asked.function);
    unchanged += is_asked && !s.changed;
    if (is_asked && s.changed)
      rows.push_back({std::to_string(number), s.pass, where(s.function),
                      fmt::format("{} became {}", s.instructions_before, s.instructions_after),
                      fmt::format("{:.0f} us", s.microseconds)});
  }
  std::string out = columns(rows, "rlllr");
  if (unchanged) out += counted(unchanged, "step") + " changed nothing\n";
  return out;
}

std::string totals_table(const std::vector<PassTotal>& totals) {
  double all = 0;
  for (const PassTotal& t : totals) all += t.microseconds;
  std::vector<std::vector<std::string>> rows = {{"pass", "runs", "changed", "instructions", "time", "share"}};
  for (const PassTotal& t : totals)
    rows.push_back({t.pass, std::to_string(t.runs), std::to_string(t.changed), signed_number(t.instructions),
                    fmt::format("{:.0f} us", t.microseconds),
                    fmt::format("{:.1f} %", all > 0 ? 100 * t.microseconds / all : 0)});
  return columns(rows, "lrrrrr");
}

Json json_of(const Difference& lines) {
  static constexpr const char* sides[] = {"both", "before", "after"};
  Json out = Json::array();
  for (const DifferenceLine& l : lines)
    out.push_back({{"side", sides[static_cast<size_t>(l.side)]}, {"text", l.text}});
  return out;
}

}  // namespace

std::string render(const Difference& lines, bool colour) {
  const Ink ink{colour};
  std::string out;
  auto all = hunks(lines);
  for (const Difference& hunk : all) {
    if (&hunk != all.data()) out += "  …\n";
    for (const DifferenceLine& l : hunk)
      out += l.side == DifferenceLine::Side::Both   ? "  " + l.text + "\n"
             : l.side == DifferenceLine::Side::Left ? ink(amber, "- " + l.text) + "\n"
                                                    : ink(green, "+ " + l.text) + "\n";
  }
  return out;
}

std::string render(const StepsReport& report, bool colour, const StepQuestion& asked) {
  std::string out;
  const Ink ink{colour};
  for (const ChangedBy& c : report.changes)
    out += ink(bold, fmt::format("step {}: {} in {}", c.step + 1, c.pass, c.function)) + "\n" +
           render(c.lines, colour) + "\n";
  return out + steps_table(report.steps, asked) + "\n" + totals_table(report.totals);
}

std::string render_json(const StepsReport& report) {
  Json steps = Json::array(), changes = Json::array(), totals = Json::array();
  for (const StepRecord& s : report.steps)
    steps.push_back({{"pass", s.pass},
                     {"function", s.function},
                     {"changed", s.changed},
                     {"instructions_before", s.instructions_before},
                     {"instructions_after", s.instructions_after},
                     {"microseconds", s.microseconds}});
  for (const ChangedBy& c : report.changes)
    changes.push_back(
        {{"step", c.step + 1}, {"pass", c.pass}, {"function", c.function}, {"lines", json_of(c.lines)}});
  for (const PassTotal& t : report.totals)
    totals.push_back({{"pass", t.pass},
                      {"runs", t.runs},
                      {"changed", t.changed},
                      {"instructions", t.instructions},
                      {"microseconds", t.microseconds}});
  return json_text({{"steps", steps}, {"changes", changes}, {"passes", totals}});
}

std::string render(const CheckReport& report, bool colour) {
  std::string out;
  if (report.wrong) {
    const WrongStep& w = *report.wrong;
    const Ink ink{colour};
    out += ink(bold, fmt::format("'{}' changed what the program means, in {}", w.pass, where(w.function))) +
           "\n";
    out += fmt::format("  step        {}, of those that changed something\n", w.step);
    out += fmt::format("  input       {}\n", w.call.text());
    out += fmt::format("  shows       {}\n", w.deviation);
    if (w.value) {
      const ChangedValue& v = *w.value;
      out += fmt::format("  first value {} of {}{}{}: {} became {}\n", v.value, v.function,
                         v.position.empty() ? "" : " at " + v.position,
                         v.time > 1 ? fmt::format(", time {}", v.time) : "", v.before, v.after);
    }
    if (!w.lines.empty()) out += "\n" + render(w.lines, colour);
  } else {
    out += fmt::format("{} left {} with the same results: {}\n", counted(report.steps, "step"),
                       counted(report.calls, "input"), counted(report.runs, "run"));
  }
  if (!report.without_inputs.empty())
    out += "not run, as no input was found with which they end: " + listed(report.without_inputs, "and") +
           "; --call \"FUNCTION ARGUMENT …\" gives one\n";
  return out;
}

std::string render_json(const CheckReport& report) {
  Json out = {{"steps", report.steps},
              {"inputs", report.calls},
              {"runs", report.runs},
              {"without_inputs", report.without_inputs},
              {"wrong", nullptr}};
  if (!report.wrong) return json_text(out);
  const WrongStep& w = *report.wrong;
  Json wrong = {{"step", w.step},           {"pass", w.pass},           {"function", w.function},
                {"call", w.call.text()},    {"deviation", w.deviation}, {"value", nullptr},
                {"lines", json_of(w.lines)}};
  if (w.value)
    wrong["value"] = {{"function", w.value->function}, {"name", w.value->value},
                      {"before", w.value->before},     {"after", w.value->after},
                      {"position", w.value->position}, {"time", w.value->time}};
  out["wrong"] = wrong;
  return json_text(out);
}

}  // namespace porphyry
