// What an author may say of a program beyond what it computes, as bits and as words: promises and permits of
// instructions, marks of parameters, facts of functions.
#pragma once

#include <cstdint>
#include <optional>
#include <span>
#include <string>
#include <string_view>
#include <vector>

namespace porphyry {

// Promises: the author's word, checked by the evaluator; a broken one is a fault.
namespace promise {
enum : uint8_t {
  fits_s = 1,    // no signed overflow
  fits_u = 2,    // no unsigned overflow
  lossless = 4,  // no bits are lost
  nonzero = 8,   // the operand (of a division: the divisor) is not zero
  bounded = 16,  // the amount or lane index is below its bound
  separate = 32  // no bit is set in both
};
}

// Permits: what the author lets the optimizer do.
namespace permit {
enum : uint8_t {
  reorder = 1,      // any bracketing and order of the same sums or products
  fuse = 2,         // a product and a sum rounded once
  nonan = 4,        // a NaN as operand or result makes the result arbitrary
  noinf = 8,        // the same for infinities
  nozerosign = 16,  // the sign of a zero may be either
  estimate = 32,    // within 2 units in the last place
  ends = 64         // the loop finishes
};
inline constexpr uint8_t of_floats = 63;
}  // namespace permit

// Marks of a parameter.
namespace mark {
enum : uint8_t {
  sole = 1,       // while the call runs, bytes that are written are reached only through it or only around it
  unwritten = 2,  // spelled `const`: this call writes nothing through it
  secret = 4      // must not decide branches or addresses
};
}

// What an external function is declared to do; each narrows what it may do by default.
namespace outside {
enum : uint8_t {
  reads = 1,           // of memory, it only reads, and only what its arguments lead to
  writes_nothing = 2,  // it may read all it can reach, and writes nothing
  returns = 4,         // it returns: no trap, no endless run
  allocates = 8,       // its result is a new object, or null
  frees = 16,          // it ends the life of the object its first argument leads to
  pure = 32            // its result depends on its arguments alone, and it returns
};
}

enum class Inlining : uint8_t { Free, Never, Prefer };

// What a function is said to be beyond its types.
struct FunctionFacts {
  uint8_t permits = 0;  // for all its instructions
  bool keep_small = false;
  Inlining inlining = Inlining::Free;
  uint8_t outside = 0;         // external functions
  std::vector<uint8_t> marks;  // by parameter; shorter when the last ones have none

  uint8_t marks_of(size_t parameter) const { return parameter < marks.size() ? marks[parameter] : 0; }
  void set_marks(size_t parameter, uint8_t bits) {
    if (parameter >= marks.size() && bits) marks.resize(parameter + 1);
    if (parameter < marks.size()) marks[parameter] = bits;
    while (!marks.empty() && marks.back() == 0) marks.pop_back();
  }
  bool operator==(const FunctionFacts&) const = default;
};

// The words of each set, in the order of their bits.
std::span<const std::string_view> promise_words();
std::span<const std::string_view> permit_words();
std::span<const std::string_view> mark_words();
std::span<const std::string_view> outside_words();  // "writes nothing" is one of them

// "fits.s, lossless": the words whose bits are set.
std::string words_of(uint8_t bits, std::span<const std::string_view> words, std::string_view between = ", ");
std::optional<uint8_t> bit_of(std::string_view word, std::span<const std::string_view> words);

}  // namespace porphyry
