// Operations legalized for a target, against themselves.
#pragma once

#include <fmt/format.h>
#include <gtest/gtest.h>

#include <bit>
#include <cmath>
#include <random>

#include "porphyry/eval/evaluator.h"
#include "porphyry/ir/clone.h"
#include "porphyry/machine/legalize.h"
#include "porphyry/machine/passing_data.h"
#include "porphyry/print/print.h"
#include "porphyry/sample/cases.h"
#include "support/read.h"

namespace porphyry::testing {

inline bool same_bits(Type t, Datum a, Datum b) {
  auto is_nan = [&](Datum d) {
    return t.is_float() && (t.bits() == 32 ? std::isnan(std::bit_cast<float>(uint32_t(d.bits)))
                                           : std::isnan(std::bit_cast<double>(d.bits)));
  };
  return (is_nan(a) && is_nan(b)) || (a.bits == b.bits && a.high == b.high);
}

// Numbers at which operations turn: ends, ones, signs, and any.
inline Bits random_operand(Type t, std::mt19937_64& random) {
  Bits mask = mask_of(t.bits()), top = Bits(1) << (t.bits() - 1);
  switch (random() % 8) {
    case 0: return 0;
    case 1: return mask;
    case 2: return top;
    case 3: return top - 1;
    case 4: return Bits(random() % (t.bits() + 2)) & mask;
    case 5: return Bits(1) << (random() % t.bits());
    default: return (Bits(random()) << 64 | random()) >> (random() % 128) & mask;
  }
}

// Evaluates each case before and after, on so many rounds of operands.
inline void compare_legalized(const std::vector<OperationCase>& all, const machine::Target& target,
                              const machine::Coverage& coverage, std::mt19937_64& random, int rounds) {
  using namespace machine;
  Realm realm;
  auto module = module_of_cases(realm, all);
  ASSERT_TRUE(verify(*module).empty()) << render(verify(*module));
  auto legal = clone(*module);
  legalize(*legal, target, coverage);
  ASSERT_TRUE(verify(*legal).empty()) << render(verify(*legal));
  for (size_t k = 0; k < all.size(); ++k) {
    Symbol s(k);
    const Signature& signature = module->function(s).signature();
    Passing way = passing(target.convention, signature);
    for (int round = 0; round < rounds; ++round) {
      std::vector<Datum> in;
      for (Type t : signature.parameters)
        for (unsigned lane = 0; lane < t.lanes(); ++lane)
          in.push_back(Datum::of(random_operand(t.element(), random)));
      Evaluator one(*module), two(*legal, {.seed = 9});
      Outcome meant = one.call(s, in);
      std::vector<uint8_t> memory(way.result_bytes + 1);
      Datum there = two.attach(memory, "results");
      Outcome is = two.call(s, arguments_in_parts(*target.convention.values, way, signature, in, there));
      auto where = [&] {
        std::string list;
        for (Datum d : in) list += fmt::format(" {:x}:{:x}", d.high, d.bits);
        return write_text(*module, s) + "of" + list + "\n" + is.message;
      };
      ASSERT_EQ(static_cast<int>(is.end), static_cast<int>(meant.end)) << where();
      if (meant.end != Outcome::End::Result) continue;
      auto results = results_from_parts(*target.convention.values, way, signature, is.results, memory,
                                        target.layout.order);
      size_t at = 0;
      for (Type t : signature.results)
        for (unsigned lane = 0; lane < t.lanes(); ++lane, ++at)
          ASSERT_TRUE(same_bits(t, results[at], meant.results[at]))
              << where()
              << fmt::format("{:x}:{:x}, not {:x}:{:x}", results[at].high, results[at].bits,
                             meant.results[at].high, meant.results[at].bits);
    }
  }
}

}  // namespace porphyry::testing
