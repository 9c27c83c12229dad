#include "porphyry/render/prove.h"

#include <fmt/format.h>

#include "ink.h"
#include "json.h"

namespace porphyry {
namespace {

const char* verdict_text(const Proof& p) {
  switch (p.verdict) {
    case Proof::Verdict::Same: return p.bounded ? "the same, as far as rounds go" : "the same";
    case Proof::Verdict::Different: return "different";
    case Proof::Verdict::Unknown: return "not decided";
  }
  return "";
}

}  // namespace

std::string render(const std::vector<ProvedFunction>& all, bool colour) {
  const Ink ink{colour};
  std::vector<std::vector<std::string>> rows = {{"function", "verdict", "time", ""}};
  size_t same = 0, bounded = 0;
  for (const ProvedFunction& f : all) {
    const Proof& p = f.proof;
    same += p.verdict == Proof::Verdict::Same;
    bounded += p.verdict == Proof::Verdict::Same && p.bounded;
    const char* shade = p.verdict == Proof::Verdict::Same        ? green
                        : p.verdict == Proof::Verdict::Different ? amber
                                                                 : faint;
    rows.push_back({f.name, ink(shade, verdict_text(p)), fmt::format("{:.2f} s", p.seconds), p.why});
  }
  std::string out =
      columns(rows, "llrl") + fmt::format("{} of {} the same: {} for all inputs, {} for runs of few rounds\n",
                                          same, counted(all.size(), "function"), same - bounded, bounded);
  for (const ProvedFunction& f : all)
    if (f.proof.call)
      out += "\n" + ink(bold, f.proof.call->text()) + "\n" + f.proof.deviation + "\n" + f.trace;
  return out;
}

std::string render_json(const std::vector<ProvedFunction>& all) {
  static constexpr const char* verdicts[] = {"same", "different", "unknown"};
  Json out = Json::array();
  for (const ProvedFunction& f : all)
    out.push_back({{"function", f.name},
                   {"verdict", verdicts[static_cast<size_t>(f.proof.verdict)]},
                   {"bounded", f.proof.bounded},
                   {"why", f.proof.why},
                   {"call", f.proof.call ? Json(f.proof.call->text()) : Json(nullptr)},
                   {"deviation", f.proof.deviation},
                   {"seconds", f.proof.seconds}});
  return json_text(out);
}

}  // namespace porphyry
