#include "porphyry/ir/words.h"

namespace porphyry {
namespace {
constexpr std::string_view words_for_promises[] = {"fits.s",  "fits.u",  "lossless",
                                                   "nonzero", "bounded", "separate"};
constexpr std::string_view words_for_permits[] = {"reorder",    "fuse",     "nonan", "noinf",
                                                  "nozerosign", "estimate", "ends"};
constexpr std::string_view words_for_marks[] = {"sole", "const", "secret"};
constexpr std::string_view words_for_outsides[] = {"reads",     "writes nothing", "returns",
                                                   "allocates", "frees",          "pure"};
}  // namespace

std::span<const std::string_view> promise_words() { return words_for_promises; }
std::span<const std::string_view> permit_words() { return words_for_permits; }
std::span<const std::string_view> mark_words() { return words_for_marks; }
std::span<const std::string_view> outside_words() { return words_for_outsides; }

std::string words_of(uint8_t bits, std::span<const std::string_view> words, std::string_view between) {
  std::string out;
  for (size_t k = 0; k < words.size(); ++k)
    if (bits >> k & 1) out.append(out.empty() ? "" : between).append(words[k]);
  return out;
}

std::optional<uint8_t> bit_of(std::string_view word, std::span<const std::string_view> words) {
  for (size_t k = 0; k < words.size(); ++k)
    if (words[k] == word) return static_cast<uint8_t>(1u << k);
  return std::nullopt;
}

}  // namespace porphyry
