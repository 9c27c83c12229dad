// How a calling convention passes values: each parameter and result as parts that registers or stack words
// hold.
//
// System V AMD64 ABI, version 1.0, section 3.2.3, for what C can say:
//   bool, i8, i16              a register, zeros above (C's signed char and short: pass a widened i32)
//   i2 … i64                   a register, zeros above
//   i65 … i128                 two registers or two stack words, never one of each; i128 on the stack at a
//                              multiple of 16
//   lanes up to 64, 128 bits   a float register, or stack words
//   wider lanes                stack words, as they lie in memory; lanes of bool as integers of as many bits
//   C structures               words of eight bytes, each in a register of its kind; see CSignature below
//   several results            each in registers of its own; when they do not all fit, in memory that the
//                              caller gives the address of as a first argument, laid out as a C structure;
//                              the address comes back as the result
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
  bool same = false;         // legal is the signature itself
};

// Whether every parameter and result is one part of its own type, and all results have registers: the
// signature is then passed as it stands. O(types).
bool passes_as_it_stands(const Convention& convention, const Signature& signature);

// O(parts).
Passing passing(const Convention& convention, const Signature& signature);

// The types of the parts of one parameter or result; none when it goes through memory.
std::vector<Type> parts_passed(Type t, bool as_result);

// ---- C's types, for front ends
// --------------------------------------------------------------------------------

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

struct CSignature {
  std::vector<CType> parameters;
  std::optional<CType> result;
  bool variadic = false;
};

// How a C function takes and gives these. A front end declares the function with the signature `legal` and
// hands over the parts in its order: part p of a structure is its bytes from 8p on, as an i64 or f64 whose
// bits beyond the structure's end are arbitrary; padding is any number. A structure that comes back through
// memory is written to the address that goes first. O(parts).
Passing passing(const Convention& convention, const CSignature& signature);

}  // namespace porphyry::machine
