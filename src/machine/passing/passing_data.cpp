// Data of whole values to data of their parts and back, for running legalized functions.
#include "porphyry/machine/passing_data.h"
#include "porphyry/base/rounding.h"
#include "porphyry/ir/compute.h"

namespace porphyry::machine {
namespace {

// How a value's bits spread over words: side by side, or, where wide lanes do not fill words, by element.
struct Spread {
  unsigned bits, step;  // of an element, and from one to the next
  Spread(Type t, unsigned word_bits, bool in_memory) : bits(t.bits()), step(t.bits()) {
    bool by_element = t.has_lanes() && in_memory && t.total_bits() % word_bits != 0;
    if (by_element) step = round_up(t.bits(), word_bits);
  }
};

using BitRow = std::vector<bool>;

BitRow bits_of(Type t, std::span<const Datum> lanes, Spread spread) {
  BitRow out(size_t(spread.step) * t.lanes() + 2 * 128);  // a part may reach beyond the value
  for (unsigned k = 0; k < t.lanes(); ++k)
    for (unsigned b = 0; b < spread.bits; ++b)
      out[size_t(k) * spread.step + b] = (b < 64 ? lanes[k].bits >> b : lanes[k].high >> (b - 64)) & 1;
  return out;
}

std::vector<Datum> lanes_of(Type t, const BitRow& row, Spread spread) {
  std::vector<Datum> out(t.lanes());
  for (unsigned k = 0; k < t.lanes(); ++k)
    for (unsigned b = 0; b < spread.bits; ++b) {
      size_t at = size_t(k) * spread.step + b;
      uint64_t bit = at < row.size() && row[at];
      (b < 64 ? out[k].bits : out[k].high) |= bit << (b % 64);
    }
  return out;
}

uint64_t number_at(const BitRow& row, size_t at, unsigned bits) {
  uint64_t out = 0;
  for (unsigned b = 0; b < bits; ++b) out |= uint64_t(row[at + b]) << b;
  return out;
}

// Whether the owner's parts are what lies in memory.
bool goes_in_memory(const PassingRules& rules, Type t) { return rules.parts(t, false).empty(); }

}  // namespace

std::vector<Datum> arguments_in_parts(const PassingRules& rules, const Passing& way,
                                      const Signature& signature, std::span<const Datum> arguments,
                                      Datum results_address) {
  std::vector<BitRow> bits;
  std::vector<Datum> first;  // of each argument: a pointer stays what it is, its object included
  for (Type t : signature.parameters) {
    bits.push_back(bits_of(t, arguments.first(t.lanes()), {t, way.word_bits, goes_in_memory(rules, t)}));
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
    Type t = way.legal.parameters[k];
    for (unsigned lane = 0; lane < t.lanes(); ++lane)
      out.push_back({p.owner < 0 ? 0
                                 : number_at(bits[static_cast<size_t>(p.owner)],
                                             size_t(p.part) * way.word_bits + lane * t.bits(), t.bits()),
                     0});
  }
  return out;
}

std::vector<Datum> results_from_parts(const PassingRules& rules, const Passing& way,
                                      const Signature& signature, std::span<const Datum> parts,
                                      std::span<const uint8_t> memory, ByteOrder order) {
  std::vector<Datum> out;
  for (size_t k = 0, at = 0; k < signature.results.size(); ++k) {
    Type t = signature.results[k];
    std::vector<Datum> lanes;
    if (way.through_memory) {
      std::vector<uint64_t> words(t.words());
      get_value(t, memory.data() + way.result_offsets[k], order, words);
      for (unsigned lane = 0; lane < t.words(); lane += t.words_per_lane())
        lanes.push_back({words[lane], t.words_per_lane() == 2 ? words[lane + 1] : 0});
    } else {
      BitRow row;
      for (Type part : rules.parts(t, true))
        for (unsigned lane = 0; lane < part.lanes(); ++lane, ++at)
          for (unsigned b = 0; b < part.bits(); ++b) row.push_back(parts[at].bits >> b & 1);
      lanes = lanes_of(t, row, {t, way.word_bits, goes_in_memory(rules, t)});
    }
    out.insert(out.end(), lanes.begin(), lanes.end());
  }
  return out;
}

}  // namespace porphyry::machine
