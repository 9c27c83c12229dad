#include "porphyry/render/prove.h"

#include <fmt/format.h>

#include "ink.h"
#include "json.h"

namespace porphyry {
namespace {

// What a proof leaves out, or why there is none.
std::string limits_of(const Proof& p) {
  if (p.verdict != Proof::Verdict::Same) return p.why;
  std::string out = p.bounded ? "for runs of few rounds" : "";
  if (p.apart) out += std::string(out.empty() ? "" : ", ") + "where memory does not overlap";
  return out;
}

const char* verdict_text(const Proof& p) {
  switch (p.verdict) {
    case Proof::Verdict::Same: return "the same";
    case Proof::Verdict::Different: return "different";
    case Proof::Verdict::Unknown: return "not decided";
  }
  return "";
}

}  // namespace

std::string render(const std::vector<ProvedFunction>& all, bool colour) {
  const Ink ink{colour};
  std::vector<std::vector<std::string>> rows = {{"function", "verdict", "time", ""}};
  size_t same = 0, limited = 0;
  for (const ProvedFunction& f : all) {
    const Proof& p = f.proof;
    same += p.verdict == Proof::Verdict::Same;
    limited += p.verdict == Proof::Verdict::Same && (p.bounded || p.apart);
    const char* shade = p.verdict == Proof::Verdict::Same        ? green
                        : p.verdict == Proof::Verdict::Different ? amber
                                                                 : faint;
    rows.push_back({f.name, ink(shade, verdict_text(p)), fmt::format("{:.2f} s", p.seconds), limits_of(p)});
  }
  std::string out =
      columns(rows, "llrl") +
      fmt::format("{} of {} the same: {} for all inputs, {} within the limits that stand there\n", same,
                  counted(all.size(), "function"), same - limited, limited);
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
                   {"apart", f.proof.apart},
                   {"why", f.proof.why},
                   {"call", f.proof.call ? Json(f.proof.call->text()) : Json(nullptr)},
                   {"deviation", f.proof.deviation},
                   {"seconds", f.proof.seconds}});
  return json_text(out);
}

}  // namespace porphyry
