#include "porphyry/render/hunt.h"

#include <fmt/format.h>

#include "ink.h"
#include "json.h"

namespace porphyry {

std::string render(const Recipe& r, const HuntState& state, const HuntQuestion& question) {
  const bool size = question.goal == HuntQuestion::Goal::Size;
  const char* unit = size ? "bytes" : "ns";
  std::string out = r.pipeline.text() + "\n\n";
  std::vector<std::vector<std::string>> rows = {{"level", unit, "to this"}};
  for (const auto& [name, cost] : r.levels)
    rows.push_back(
        {name, fmt::format("{:.0f}", cost), fmt::format("{:+.1f} %", 100 * (r.pipeline.cost - cost) / cost)});
  rows.push_back({"this", fmt::format("{:.0f}", r.pipeline.cost), ""});
  out += columns(rows, "lr") + "\n";
  rows = {{"step", "pass", std::string("without it, ") + unit}};
  for (size_t k = 0; k < r.pipeline.steps.size(); ++k)
    rows.push_back(
        {std::to_string(k + 1), r.pipeline.steps[k],
         r.without[k] > 1e200 ? "no program" : fmt::format("{:+.0f}", r.without[k] - r.pipeline.cost)});
  out += columns(rows, "rlr");
  return out + fmt::format("\n{} in {}, {} refused\n", counted(state.built, "pipeline"),
                           counted(state.generation, "generation"), state.refused);
}

std::string render_json(const Recipe& r, const HuntState& state, const HuntQuestion& question) {
  Json levels = Json::array(), steps = Json::array();
  for (const auto& [name, cost] : r.levels) levels.push_back({{"name", name}, {"cost", cost}});
  for (size_t k = 0; k < r.pipeline.steps.size(); ++k)
    steps.push_back({{"pass", r.pipeline.steps[k]}, {"without", r.without[k]}});
  return json_text({{"goal", question.goal == HuntQuestion::Goal::Size ? "size" : "time"},
                    {"pipeline", r.pipeline.text()},
                    {"cost", r.pipeline.cost},
                    {"steps", steps},
                    {"levels", levels},
                    {"generations", state.generation},
                    {"built", state.built},
                    {"refused", state.refused}});
}

}  // namespace porphyry
