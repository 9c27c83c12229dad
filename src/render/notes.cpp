#include "porphyry/render/notes.h"

#include <fmt/format.h>

#include <algorithm>

#include "json.h"

namespace porphyry {
namespace {

const char* kind_text(Note::Kind kind) {
  switch (kind) {
    case Note::Kind::Done: return "done";
    case Note::Kind::Declined: return "declined";
    case Note::Kind::Seen: return "seen";
  }
  return "";
}

}  // namespace

std::string render(const Notes& notes, bool colour) {
  std::string out;
  for (const Note& n : notes) {
    std::string kind = kind_text(n.kind);
    if (colour) kind = (n.kind == Note::Kind::Done ? "\x1b[32m" : "\x1b[33m") + kind + "\x1b[0m";
    out += fmt::format("{} {} in {}{}{}: {}: {}\n", n.pass, kind, n.function,
                       n.position.empty() ? "" : " at " + n.position, n.value.empty() ? "" : ", " + n.value,
                       n.what, n.why);
    std::string figures;
    for (const auto& [name, value] : n.figures) figures += (figures.empty() ? "" : ", ") + name + " " + value;
    if (!figures.empty()) out += "    " + figures + "\n";
    if (!n.unlock.empty()) out += "    would act with: " + n.unlock + "\n";
  }
  return out;
}

std::string render_json(const Notes& notes) {
  Json all = Json::array();
  for (const Note& n : notes) {
    Json figures = Json::object();
    for (const auto& [name, value] : n.figures) figures[name] = value;
    all.push_back({{"pass", n.pass},
                   {"kind", kind_text(n.kind)},
                   {"function", n.function},
                   {"position", n.position},
                   {"value", n.value},
                   {"what", n.what},
                   {"why", n.why},
                   {"figures", figures},
                   {"unlock", n.unlock}});
  }
  return json_text(all);
}

std::string render(const std::vector<StepRecord>& steps) {
  size_t pass_width = 4, function_width = 8;
  for (const StepRecord& s : steps) {
    if (!s.changed) continue;
    pass_width = std::max(pass_width, s.pass.size());
    function_width = std::max(function_width, s.function.size());
  }
  std::string out =
      fmt::format("{:<{}}  {:<{}}  instructions\n", "pass", pass_width, "function", function_width);
  size_t unchanged = 0;
  for (const StepRecord& s : steps) {
    unchanged += !s.changed;
    if (!s.changed) continue;
    out += fmt::format("{:<{}}  {:<{}}  {} became {}\n", s.pass, pass_width, s.function, function_width,
                       s.instructions_before, s.instructions_after);
  }
  if (unchanged) out += fmt::format("{} step{} changed nothing\n", unchanged, unchanged == 1 ? "" : "s");
  return out;
}

}  // namespace porphyry
