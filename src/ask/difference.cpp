#include "porphyry/ask/difference.h"

#include <algorithm>
#include <dtl/dtl.hpp>
#include <unordered_map>

#include "porphyry/base/lines.h"

namespace porphyry {
Difference difference(std::string_view left, std::string_view right) {
  return difference(lines_of(left), lines_of(right));
}

// Lines are compared as numbers, the same for the same text; only what lies between the first and the last
// line that differ is searched.
Difference difference(const std::vector<std::string>& left, const std::vector<std::string>& right) {
  using Side = DifferenceLine::Side;
  Difference out;
  out.reserve(std::max(left.size(), right.size()));
  size_t at_left = 0, at_right = 0;
  auto put = [&](Side side) {
    const std::string& text = side == Side::Right ? right[at_right] : left[at_left];
    at_left += side != Side::Right;
    at_right += side != Side::Left;
    out.push_back({side, text, side == Side::Right ? 0 : at_left, side == Side::Left ? 0 : at_right});
  };
  const size_t shorter = std::min(left.size(), right.size());
  size_t first = 0, last = 0;
  while (first < shorter && left[first] == right[first]) ++first;
  while (last < shorter - first && left.rbegin()[last] == right.rbegin()[last]) ++last;
  std::unordered_map<std::string_view, uint32_t> numbers;
  auto numbered = [&](const std::vector<std::string>& lines) {
    std::vector<uint32_t> is;
    for (size_t k = first; k < lines.size() - last; ++k)
      is.push_back(numbers.try_emplace(lines[k], static_cast<uint32_t>(numbers.size())).first->second);
    return is;
  };
  dtl::Diff<uint32_t> between(numbered(left), numbered(right));
  between.onHuge();
  between.compose();
  for (size_t k = 0; k < first; ++k) put(Side::Both);
  for (const auto& [number, info] : between.getSes().getSequence())
    put(info.type == dtl::SES_COMMON ? Side::Both : info.type == dtl::SES_ADD ? Side::Right : Side::Left);
  for (size_t k = 0; k < last; ++k) put(Side::Both);
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
