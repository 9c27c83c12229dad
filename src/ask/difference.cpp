#include "porphyry/ask/difference.h"

#include <dtl/dtl.hpp>

#include "porphyry/base/lines.h"

namespace porphyry {
Difference difference(std::string_view left, std::string_view right) {
  return difference(lines_of(left), lines_of(right));
}

Difference difference(const std::vector<std::string>& left, const std::vector<std::string>& right) {
  dtl::Diff<std::string> compared(left, right);
  compared.onHuge();
  compared.compose();
  Difference out;
  size_t at_left = 0, at_right = 0;
  for (const auto& [text, info] : compared.getSes().getSequence()) {
    using Side = DifferenceLine::Side;
    Side side = info.type == dtl::SES_COMMON ? Side::Both
                : info.type == dtl::SES_ADD  ? Side::Right
                                             : Side::Left;
    at_left += side != Side::Right;
    at_right += side != Side::Left;
    out.push_back({side, text, side == Side::Right ? 0 : at_left, side == Side::Left ? 0 : at_right});
  }
  return out;
}

std::vector<Difference> hunks(const Difference& all, size_t around) {
  std::vector<Difference> out;
  size_t shown = 0;  // what stands before is shown, or left out
  for (size_t k = 0; k < all.size(); ++k) {
    if (all[k].side == DifferenceLine::Side::Both) continue;
    size_t from = std::max(shown, k > around ? k - around : 0), to = std::min(all.size(), k + 1 + around);
    if (out.empty() || from > shown) out.emplace_back();
    for (size_t line = from; line < to; ++line) out.back().push_back(all[line]);
    shown = std::max(shown, to);
  }
  return out;
}

}  // namespace porphyry
