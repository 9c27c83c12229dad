#include "porphyry/render/diagnostics.h"

#include <fmt/format.h>

#include <algorithm>

#include "json.h"

namespace porphyry {

std::string render(const Diagnostics& problems) {
  std::string out;
  for (const Diagnostic& d : problems) {
    if (!out.empty()) out += "\n";
    if (!d.file.empty()) out += d.line ? fmt::format("{}:{}:{}: ", d.file, d.line, d.column) : d.file + ": ";
    out += d.message + "\n";
    if (!d.excerpt.empty()) {
      out += "    " + d.excerpt + "\n    ";
      size_t mark = std::min<size_t>(d.mark, d.excerpt.size());
      for (size_t k = 0; k < mark; ++k) out += d.excerpt[k] == '\t' ? '\t' : ' ';
      out += std::string(std::clamp<size_t>(d.length, 1, std::max<size_t>(d.excerpt.size() - mark, 1)), '^') +
             "\n";
    }
    if (!d.expected.empty()) out += "  expected: " + d.expected + "\n";
  }
  return out;
}

std::string render_json(const Diagnostics& problems) {
  Json all = Json::array();
  for (const Diagnostic& d : problems)
    all.push_back({{"file", d.file},
                   {"line", d.line},
                   {"column", d.column},
                   {"length", d.length},
                   {"message", d.message},
                   {"expected", d.expected},
                   {"excerpt", d.excerpt}});
  return json_text(all);
}

}  // namespace porphyry
