// Where secrets show: branches that they decide, addresses that they are part of, and instructions that take
// another time for other operands. Whoever can time a run, or see which lines of a cache it touches, learns
// of them.
//
//   for (const SecretUse& use : secret_uses(module)) …                        // in the IR
//   for (const SecretUse& use : secret_uses(*lowered, target)) …              // in its machine code
//
// Sources are parameters that are marked `secret`: of a number, the number; of a pointer, the bytes that it
// leads to. What is computed from a secret is one, and so is what a branch on one decides. P. Kocher, "Timing
// Attacks on Implementations of Diffie-Hellman, RSA, DSS, and Other Systems", 1996.
#pragma once

#include <string>
#include <vector>

#include "porphyry/machine/lower.h"

namespace porphyry {

struct SecretUse {
  enum class Kind : uint8_t { Branch, Address, Time } kind = Kind::Branch;
  std::string function;
  std::string text;      // the instruction, of the IR or of the machine
  std::string position;  // in the source
  uint32_t offset = 0;   // in machine code
  // From the parameter to here: what each step is, "key", "x = and key, 15", …
  std::vector<std::string> way;
};

// Over all functions, through calls and memory. O(links between values, of all functions).
std::vector<SecretUse> secret_uses(const Module& module);

// In the code of a module that was lowered with its bodies, and with `explain`: a data-flow analysis over the
// instructions' operands, registers and flags, which is told only where parameters arrive and which loads
// bring secrets. O(instructions * registers).
std::vector<SecretUse> secret_uses(const machine::LoweredModule& lowered, const machine::Target& target);

std::string_view kind_name(SecretUse::Kind kind);

}  // namespace porphyry
