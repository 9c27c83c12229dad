#include "porphyry/base/diagnostics.h"

#include <algorithm>
#include <utility>

namespace porphyry {

std::string counted(uint64_t n, std::string_view one, std::string_view many) {
  std::string out = std::to_string(n) + " ";
  return out.append(n == 1 || many.empty() ? one : many).append(n != 1 && many.empty() ? "s" : "");
}

std::string listed(const std::vector<std::string>& words, std::string_view last) {
  std::string out;
  for (size_t i = 0; i < words.size(); ++i) {
    if (i > 0) out += i + 1 == words.size() ? " " + std::string(last) + " " : ", ";
    out += words[i];
  }
  return out;
}

// Edits of one letter, and two neighbours changing places, count one each.
static size_t distance(std::string_view a, std::string_view b) {
  std::vector<size_t> two_up, above(b.size() + 1), row(b.size() + 1);
  for (size_t j = 0; j <= b.size(); ++j) row[j] = j;
  for (size_t i = 1; i <= a.size(); ++i) {
    two_up = std::exchange(above, row);
    row[0] = i;
    for (size_t j = 1; j <= b.size(); ++j) {
      row[j] = std::min({above[j] + 1, row[j - 1] + 1, above[j - 1] + (a[i - 1] != b[j - 1])});
      if (i > 1 && j > 1 && a[i - 1] == b[j - 2] && a[i - 2] == b[j - 1])
        row[j] = std::min(row[j], two_up[j - 2] + 1);
    }
  }
  return row[b.size()];
}

std::string nearest(std::string_view word, const std::vector<std::string>& candidates) {
  if (word.size() > 64) return "";
  std::string best;
  size_t limit = word.size() < 2 ? 1 : word.size() / 3 + 2;
  for (const std::string& candidate : candidates) {
    if (candidate.size() > 64) continue;
    size_t d = distance(word, candidate);
    if (d < limit) best = candidate, limit = d;
  }
  return best;
}

}  // namespace porphyry
