// Data of whole values to data of their parts and back, for running legalized functions.
#include "porphyry/machine/passing_data.h"
#include "porphyry/ir/compute.h"

namespace porphyry::machine {
namespace {

// How a value's bits spread over words: side by side, or, where wide lanes do not fill words, by element.
struct Spread {
  unsigned bits, step;  // of an element, and from one to the next
  explicit Spread(Type t) : bits(t.bits()), step(t.bits()) {
    bool by_element = t.has_lanes() && parts_passed(t, false).empty() && t.total_bits() % 64 != 0;
    if (by_element) step = 64 * t.words_per_lane();
  }
};

std::vector<uint64_t> words_of(Type t, std::span<const Datum> lanes) {
  Spread spread(t);
  std::vector<uint64_t> out((size_t(spread.step) * t.lanes() + 63) / 64);
  for (unsigned k = 0; k < t.lanes(); ++k)
    for (unsigned b = 0; b < spread.bits; ++b) {
      uint64_t bit = (b < 64 ? lanes[k].bits >> b : lanes[k].high >> (b - 64)) & 1;
      size_t at = size_t(k) * spread.step + b;
      out[at / 64] |= bit << (at % 64);
    }
  return out;
}

std::vector<Datum> lanes_of(Type t, std::span<const uint64_t> words) {
  Spread spread(t);
  std::vector<Datum> out(t.lanes());
  for (unsigned k = 0; k < t.lanes(); ++k)
    for (unsigned b = 0; b < spread.bits; ++b) {
      size_t at = size_t(k) * spread.step + b;
      uint64_t bit = words[at / 64] >> (at % 64) & 1;
      (b < 64 ? out[k].bits : out[k].high) |= bit << (b % 64);
    }
  return out;
}

}  // namespace

std::vector<Datum> arguments_in_parts(const Passing& way, const Signature& signature,
                                      std::span<const Datum> arguments, Datum results_address) {
  std::vector<std::vector<uint64_t>> words;
  std::vector<Datum> first;  // of each argument: a pointer stays what it is, its object included
  for (Type t : signature.parameters) {
    words.push_back(words_of(t, arguments.first(t.lanes())));
    first.push_back(arguments[0]);
    arguments = arguments.subspan(t.lanes());
  }
  std::vector<Datum> out;
  for (size_t k = 0; k < way.parameters.size(); ++k) {
    PassedPart p = way.parameters[k];
    if (p.owner == PassedPart::results_address) {
      out.push_back(results_address);
      continue;
    }
    if (way.legal.parameters[k].is_pointer()) {
      out.push_back(first[static_cast<size_t>(p.owner)]);
      continue;
    }
    for (unsigned lane = 0; lane < way.legal.parameters[k].lanes(); ++lane)
      out.push_back({p.owner < 0 ? 0 : words[static_cast<size_t>(p.owner)][p.part + lane], 0});
  }
  return out;
}

std::vector<Datum> results_from_parts(const Passing& way, const Signature& signature,
                                      std::span<const Datum> parts, std::span<const uint8_t> memory) {
  std::vector<Datum> out;
  for (size_t k = 0, at = 0; k < signature.results.size(); ++k) {
    Type t = signature.results[k];
    std::vector<uint64_t> words;
    std::vector<Datum> lanes;
    if (way.through_memory) {
      words.resize(t.words());
      get_value(t, memory.data() + way.result_offsets[k], ByteOrder::Little, words);
      for (unsigned lane = 0; lane < t.words(); lane += t.words_per_lane())
        lanes.push_back({words[lane], t.words_per_lane() == 2 ? words[lane + 1] : 0});
    } else {
      for (Type part : parts_passed(t, true))
        for (unsigned lane = 0; lane < part.lanes(); ++lane) words.push_back(parts[at++].bits);
      words.resize(words.size() + 1);  // lanes_of may look a word ahead of a lone small part
      lanes = lanes_of(t, words);
    }
    out.insert(out.end(), lanes.begin(), lanes.end());
  }
  return out;
}

}  // namespace porphyry::machine
