#include "porphyry/render/sample.h"

#include <fmt/format.h>

#include <algorithm>

#include "porphyry/ir/operations.h"

namespace porphyry {

std::string render(const SampleCoverage& c) {
  std::string out =
      fmt::format("{} program{}, {} instructions; {:.1f} % of the {} operations came up\n", c.programs,
                  c.programs == 1 ? "" : "s", c.instructions, 100 * c.share(), operation_count);
  if (std::vector<Op> missing = c.missing(); !missing.empty()) {
    out += "missing:";
    for (Op op : missing) out += fmt::format(" {}", info(op).name);
    out += "\n";
  }
  out += "\n";
  // In columns, the table's order downwards.
  constexpr size_t columns = 4;
  size_t rows = (operation_count + columns - 1) / columns;
  uint64_t most = std::max<uint64_t>(1, *std::max_element(c.uses.begin(), c.uses.end()));
  int digits = static_cast<int>(fmt::formatted_size("{}", most));
  for (size_t r = 0; r < rows; ++r) {
    std::string line;
    for (size_t k = r; k < operation_count; k += rows) {
      const OperationInfo& op = info(static_cast<Op>(k));
      std::string name = std::string(op.name) + (op.layout == Layout::CallThrough ? " [p]" : "");
      line += fmt::format("  {:<15} {:>{}}", name, c.uses[k], digits);
    }
    out += line + "\n";
  }
  return out;
}

}  // namespace porphyry
