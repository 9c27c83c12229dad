// A hash for tables: fast on short texts, well mixed, the same on every machine of one byte order. Not for
// adversaries: tables that hold hostile input stay correct, only slower.
#pragma once

#include <cstdint>
#include <cstring>
#include <string_view>

namespace porphyry {

// The mixer "degski64", one of those compared by C. Wellons, "Prospecting for Hash Functions" (2018).
constexpr uint64_t mixed(uint64_t v) {
  v ^= v >> 32;
  v *= 0xd6e8feb86659fd93u;
  v ^= v >> 32;
  v *= 0xd6e8feb86659fd93u;
  return v ^ v >> 32;
}

// Two texts of the same length up to this one have the same hash only when they are the same: all their bytes
// go into one word, and mixing words loses nothing.
inline constexpr size_t whole_hash_length = 8;

inline uint64_t hash_of(std::string_view text) {
  const char* at = text.data();
  size_t left = text.size();
  auto read = [](const char* from, auto word) {
    std::memcpy(&word, from, sizeof word);
    return static_cast<uint64_t>(word);
  };
  // The golden ratio's fraction: D. Knuth, "The Art of Computer Programming", volume 3, section 6.4. The
  // factor is that of P. Evensen's mixer "rrmxmx", "Better, stronger mixer and a test procedure" (2018).
  uint64_t h = 0x9e3779b97f4a7c15u ^ left;
  for (; left > 8; at += 8, left -= 8) {
    h = (h ^ read(at, uint64_t())) * 0x9fb21c651e98df25u;
    h ^= h >> 29;
  }
  // The rest in words that may overlap: copying a few bytes one by one into a word and reading that stalls.
  uint64_t word = 0;
  if (left >= 4)
    word = read(at, uint32_t()) | read(at + left - 4, uint32_t()) << 32;
  else if (left > 0)
    word = read(at, uint8_t()) | read(at + left / 2, uint8_t()) << 8 | read(at + left - 1, uint8_t()) << 16;
  return mixed(h ^ word);
}

}  // namespace porphyry
