// Entry `lengths`: what follows the opcodes that no instruction of the book has.
#include "binder.h"

namespace porphyry::bind {

using machine::Follows;
using machine::OpcodeLength;

// MAP [regs] [literal 8|16|24|word|whole | address | digit literal 8|word]: BYTE [to BYTE] …
void Binder::lengths(const Entry& entry) {
  static const std::map<std::string, size_t> maps = {
      {"one", 0}, {"two", 1}, {"three_38", 2}, {"three_3a", 3}};
  static const std::map<std::string, Follows> kinds = {{"", Follows::Nothing},
                                                       {"literal 8", Follows::Literal8},
                                                       {"literal 16", Follows::Literal16},
                                                       {"literal 24", Follows::Literal24},
                                                       {"literal word", Follows::Word},
                                                       {"literal whole", Follows::Whole},
                                                       {"address", Follows::Address},
                                                       {"digit literal 8", Follows::DigitLiteral8},
                                                       {"digit literal word", Follows::DigitWord}};
  for (const Line& line : entry.body) {
    WordList w = words(line.text);
    auto map = maps.find(w[0]);
    size_t at = 1;
    OpcodeLength length{.known = true};
    if (w[at] == "regs") length.regs = true, ++at;
    std::string kind;
    for (; at < w.size() && w[at] != ":"; ++at) kind += (kind.empty() ? "" : " ") + w[at];
    auto then = kinds.find(kind);
    if (map == maps.end() || then == kinds.end() || at == w.size()) {
      complain(line, "this says no length",
               "one, two, three_38 or three_3a, [regs], [literal …], a colon, bytes");
      continue;
    }
    length.then = then->second;
    for (++at; at < w.size(); ++at) {
      auto first = number(w[at]), last = first;
      if (w[at + 1] == "to") last = number(w[at + 2]), at += 2;
      if (!first || !last || *first > *last || *first < 0 || *last > 255) {
        complain(line, "this is no byte, nor a run of bytes", "0x50 or 0x50 to 0x5f");
        break;
      }
      for (int64_t opcode = *first; opcode <= *last; ++opcode)
        book_.lengths[map->second * 256 + static_cast<size_t>(opcode)] = length;
    }
  }
}

}  // namespace porphyry::bind
