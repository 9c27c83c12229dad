// How a calling convention passes values: each parameter and result as parts that registers or stack words
// hold.
//
// What a target's convention says of values stands in its PassingRules. What holds for all: parameters are
// taken in order, each in registers when they are left for all of its parts, else on the stack; what has no
// parts goes there as the words of its memory. Several results come each in registers of their own; when they
// do not all fit, in memory that the caller gives the address of as a first argument, laid out as a C
// structure, and the address comes back as the result.
#pragma once

#include <optional>
#include <vector>

#include "porphyry/machine/convention.h"

namespace porphyry::machine {

struct PassedPart {
  // Whose part it is: a parameter or result by number, or:
  static constexpr int padding = -1, results_address = -2;
  int owner = padding;
  unsigned part = 0;  // counted from the low end
};

struct Passing {
  // The signature in parts; each part's type is one that a register holds. Parts on the stack stand behind
  // those in registers, in the order of their words; padding fills what must stay empty.
  Signature legal;
  std::vector<PassedPart> parameters, results;  // by part
  bool through_memory = false;
  std::vector<uint64_t> result_offsets;  // through memory: where each result lies
  uint64_t result_bytes = 0;
  uint64_t stack_bytes = 0;  // of arguments
  unsigned word_bits = 64;
  bool same = false;  // legal is the signature itself
};

// Whether every parameter and result is one part of its own type, and all results have registers: the
// signature is then passed as it stands. O(types).
bool passes_as_it_stands(const Convention& convention, const Signature& signature);

// O(parts).
Passing passing(const Convention& convention, const Signature& signature);

// ---- C's types, for front ends ----------------------------------------------------------------------------

// A C type as far as passing it goes: a scalar (bool, i8 … i64, ptr, f32, f64), or a structure. `count` makes
// an array of it where it is a member.
struct CType {
  Type scalar;
  std::vector<CType> members;
  uint64_t count = 1;
  static CType of(Type scalar, uint64_t count = 1) { return {scalar, {}, count}; }
  static CType structure(std::vector<CType> members, uint64_t count = 1) {
    return {Type(), std::move(members), count};
  }
};

struct CLayout {
  struct Member {
    uint64_t offset;
    Type type;
  };
  uint64_t bytes = 0, align = 1;
  std::vector<Member> members;  // the scalars, structures and arrays opened, by offset
};
CLayout c_layout(const CType& c);

// What a convention says of values; a target fills it in.
struct PassingRules {
  // The types of the parts of one parameter or result that registers hold, from the low end; none when it
  // goes through memory.
  std::vector<Type> (*parts)(Type t, bool as_result);
  // Whether that is one part of its own type.
  bool (*as_it_stands)(Type t, bool as_result);
  // Whether its words on the stack begin at a multiple of 16.
  bool (*aligned_on_stack)(Type t);
  // The parts in which registers hold a structure of C; none when it goes through memory.
  std::vector<Type> (*structure)(const CLayout& layout);
};

struct CSignature {
  std::vector<CType> parameters;
  std::optional<CType> result;
  bool variadic = false;
};

// How a C function takes and gives these. A front end declares the function with the signature `legal` and
// hands over the parts in its order: part p of a structure is its word p, as an integer or f64 whose
// bits beyond the structure's end are arbitrary; padding is any number. A structure that comes back through
// memory is written to the address that goes first. O(parts).
Passing passing(const Convention& convention, const CSignature& signature);

}  // namespace porphyry::machine
