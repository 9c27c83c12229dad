// What differs between two texts, line by line, as data.
//
//   for (const DifferenceLine& l : difference(before, after)) …
#pragma once

#include <string>
#include <string_view>
#include <vector>

namespace porphyry {

struct DifferenceLine {
  enum class Side : uint8_t { Both, Left, Right } side = Side::Both;
  std::string text;
  size_t left = 0, right = 0;  // line numbers from 1; 0 on the side that lacks it
};
using Difference = std::vector<DifferenceLine>;

// As few lines on one side only as can be (Wu, Manber, Myers, Miller, "An O(NP) Sequence Comparison
// Algorithm", 1990). O((lines left + right) * lines that differ).
Difference difference(std::string_view left, std::string_view right);
Difference difference(const std::vector<std::string>& left, const std::vector<std::string>& right);

// The lines that differ with `around` lines on each side of them, in runs: each is a part of the whole.
std::vector<Difference> hunks(const Difference& all, size_t around = 2);

}  // namespace porphyry
