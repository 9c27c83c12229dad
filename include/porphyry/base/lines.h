// Texts as lines.
#pragma once

#include <algorithm>
#include <string>
#include <string_view>
#include <vector>

namespace porphyry {

// Without their ends; a last line that has none counts.
inline std::vector<std::string> lines_of(std::string_view text) {
  std::vector<std::string> out;
  while (!text.empty()) {
    const size_t end = std::min(text.find('\n'), text.size());
    out.emplace_back(text.substr(0, end));
    text.remove_prefix(std::min(end + 1, text.size()));
  }
  return out;
}

}  // namespace porphyry
