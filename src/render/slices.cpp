#include "porphyry/render/slices.h"

#include <fmt/format.h>

#include "ink.h"
#include "json.h"

namespace porphyry {

std::string render(const Slice& s, bool colour) {
  const Ink ink{colour};
  std::string out =
      ink(bold, fmt::format("{} of {}: {} {}", s.value, s.function,
                            s.way == SliceWay::Backward ? "what it depends on," : "what depends on it,",
                            counted(s.steps.size() - 1, "place"))) +
      fmt::format(" of {}\n", counted(s.instructions, "instruction"));
  std::vector<std::vector<std::string>> rows;
  for (size_t k = 0; k < s.steps.size(); ++k) {
    const SliceStep& step = s.steps[k];
    std::string how = k == 0 ? "" : fmt::format("{} of {}", step.why, s.steps[step.from].name);
    if (s.way == SliceWay::Forward && k) how = fmt::format("{} from {}", step.why, s.steps[step.from].name);
    rows.push_back({std::to_string(k), step.block, step.text, ink(faint, how), ink(faint, step.position)});
  }
  out += columns(rows, "rl");
  if (s.reaches_memory) out += "and on memory that callers hand in\n";
  return out;
}

std::string render_json(const Slice& s) {
  Json steps = Json::array();
  for (const SliceStep& step : s.steps)
    steps.push_back({{"text", step.text},
                     {"block", step.block},
                     {"position", step.position},
                     {"why", step.why},
                     {"from", step.from}});
  return json_text({{"function", s.function},
                    {"value", s.value},
                    {"way", s.way == SliceWay::Backward ? "backward" : "forward"},
                    {"instructions", s.instructions},
                    {"reaches_memory", s.reaches_memory},
                    {"steps", steps}});
}

namespace {

std::string sentence(SecretUse::Kind kind) {
  switch (kind) {
    case SecretUse::Kind::Branch: return "a secret decides a branch";
    case SecretUse::Kind::Address: return "a secret is part of an address";
    case SecretUse::Kind::Time: return "its time depends on a secret";
  }
  return "";
}

std::string uses_text(const std::vector<SecretUse>& uses, bool in_code, const Ink& ink) {
  std::string out;
  for (const SecretUse& u : uses) {
    out += fmt::format("{}{}: {}: {}{}\n", u.function, in_code ? fmt::format(" + {:04x}", u.offset) : "",
                       ink(amber, sentence(u.kind)), u.text, u.position.empty() ? "" : "  " + u.position);
    for (const std::string& step : u.way) out += ink(faint, "    " + step) + "\n";
  }
  return out;
}

Json json_of(const std::vector<SecretUse>& uses) {
  Json out = Json::array();
  for (const SecretUse& u : uses)
    out.push_back({{"kind", kind_name(u.kind)},
                   {"function", u.function},
                   {"text", u.text},
                   {"position", u.position},
                   {"offset", u.offset},
                   {"way", u.way}});
  return out;
}

}  // namespace

std::string render(const SecretReport& r, bool colour) {
  const Ink ink{colour};
  if (r.in_program.empty() && r.in_code.empty()) return "no secret decides a branch, an address or a time\n";
  std::string out;
  if (!r.in_program.empty()) out += ink(bold, "in the program") + "\n" + uses_text(r.in_program, false, ink);
  if (!r.in_code.empty()) out += ink(bold, "in its code") + "\n" + uses_text(r.in_code, true, ink);
  return out;
}

std::string render_json(const SecretReport& r) {
  return json_text({{"in_program", json_of(r.in_program)}, {"in_code", json_of(r.in_code)}});
}

}  // namespace porphyry
