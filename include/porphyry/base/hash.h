// A hash for tables: fast on short texts, well mixed, the same on every machine of one byte order. Not for
// adversaries: tables that hold hostile input stay correct, only slower.
#pragma once

#include <cstdint>
#include <cstring>
#include <string_view>

namespace porphyry {

constexpr uint64_t mixed(uint64_t v) {
  v ^= v >> 32;
  v *= 0xd6e8feb86659fd93u;
  v ^= v >> 32;
  v *= 0xd6e8feb86659fd93u;
  return v ^ v >> 32;
}

inline uint64_t hash_of(std::string_view text) {
  const char* at = text.data();
  size_t left = text.size();
  uint64_t h = 0x9e3779b97f4a7c15u ^ left;
  for (; left >= 8; at += 8, left -= 8) {
    uint64_t word;
    std::memcpy(&word, at, 8);
    h = (h ^ word) * 0x9fb21c651e98df25u;
    h ^= h >> 29;
  }
  uint64_t word = 0;
  if (left) std::memcpy(&word, at, left);
  return mixed(h ^ word);
}

}  // namespace porphyry
