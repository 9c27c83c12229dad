// Matches the book's patterns against the IR.
#pragma once

#include <array>
#include <optional>

#include "porphyry/ir/function.h"
#include "porphyry/machine/rule_index.h"
#include "wanted.h"

namespace porphyry::machine {

// The operand whose type tells rules of one operation apart.
size_t typed_operand(Op op, size_t count);

// Whether a pattern's constant takes these bits, which are those of each lane.
constexpr bool fits(const PatternNode& n, Type t, uint64_t bits) {
  const auto mask = static_cast<uint64_t>(mask_of(t.bits()));
  switch (n.fit) {
    case Fit::Any:
    case Fit::Masked: break;
    case Fit::Signed: {
      const unsigned spare = 64 - t.bits();
      const int64_t value = static_cast<int64_t>(bits << spare) >> spare;
      return !t.is_float() && fits_signed(value, static_cast<unsigned>(n.literal));
    }
    case Fit::Unsigned: return bits >> n.literal == 0;
    case Fit::Not: return bits != (n.literal & mask);
    case Fit::Nonzero: {
      const uint64_t size = bits & mask >> 1, infinity = t.bits() == 32 ? 0x7f800000 : 0x7ff0000000000000;
      return size != 0 && size <= infinity;
    }
  }
  return true;
}

// What a pattern's variables stand for: values in registers and constants, or the accesses whose addresses
// they are.
class Match {
 public:
  static constexpr size_t most_variables = most_pattern_variables;

  uint16_t index = 0;  // of the rule
  uint32_t cost = 0;
  std::array<Instruction, 3> covered{};  // inner instructions of the pattern

  // Nothing for what is an address.
  Value value(size_t k) const { return is_access(k) ? Value() : Value(bound_[k] - 1); }
  // The load, store or `at`; nothing for what is a value.
  Instruction access(size_t k) const { return is_access(k) ? Instruction(bound_[k] - 1) : Instruction(); }
  // The value is a constant to be read from the pool, in the place of an access.
  bool is_pooled(size_t k) const { return pooled_ >> k & 1; }

  void bind(size_t k, Value v) { bound_[k] = v.index + 1; }
  void bind(size_t k, Instruction access) { bound_[k] = access.index + 1, accesses_ |= bit(k); }
  void bind_pooled(size_t k, Value constant) { bound_[k] = constant.index + 1, pooled_ |= bit(k); }

  // There is one for each instruction of a function, and most bind two variables or three: kept, it takes a
  // word for itself and one for each variable and inner instruction. The cost is not kept.
  using Words = std::pmr::vector<uint32_t>;
  void keep(Words& words) const;
  static Match kept(const uint32_t* words);

 private:
  static constexpr unsigned covered_at = 16, bound_at = 18, accesses_at = 24,
                            pooled_at = 30;  // bits of a head
  static uint8_t bit(size_t k) { return static_cast<uint8_t>(1u << k); }
  bool is_access(size_t k) const { return accesses_ >> k & 1; }

  uint8_t accesses_ = 0, pooled_ = 0;
  std::array<uint32_t, most_variables> bound_{};  // plus one; 0: nothing
};

class Matcher {
 public:
  Matcher(const Function& function, const RuleIndex& rules, std::pmr::memory_resource* memory);

  // Finds the cheapest rule for each instruction of the block. O(instructions * rules that may cover them).
  void visit(Block b);
  // The cheapest match for an instruction whose block was visited; nothing when no rule covers it.
  std::optional<Match> best(Instruction i) const {
    return best_[i].row ? std::optional(Match::kept(&words_[best_[i].row - 1])) : std::nullopt;
  }
  // One rule on an instruction whose block was visited, for explanations; nothing when it does not match.
  std::optional<Match> tried(uint16_t rule, Instruction i) const {
    Match m;
    return try_rule(rule, i, m) ? std::optional(m) : std::nullopt;
  }
  // The cheapest rule that makes a constant.
  std::optional<Match> constant(Value v) const;

 private:
  bool node(const Rule& rule, int8_t at, Value v, Instruction root, Match& m) const;
  bool children(const Rule& rule, const PatternNode& n, Instruction i, Instruction root, Match& m) const;
  bool leaf(const PatternNode& n, Value v, Match& m) const;
  bool memory(const PatternNode& n, Instruction access, Match& m) const;
  bool inside(const PatternNode& n, Instruction d, Instruction root, const Match& m) const;
  bool takes_lanes(const PatternNode& n, Instruction i) const;
  bool is_plain_sum(Instruction i) const;
  bool same_address(Instruction a, Instruction b) const;
  Loss loss(const Match& m, Instruction root) const;
  bool in_order(const Rule& rule, const PatternNode& n, Instruction i, Instruction root, bool swapped,
                Match& m) const;
  bool may_fit(const PatternNode& n, Value v) const;
  uint32_t cost_of_leaf(Value v, Instruction root) const;
  bool try_rule(uint16_t index, Instruction i, Match& m) const;

  const Function& f_;
  const RuleIndex& rules_;
  const Target& target_;
  struct Best {
    uint32_t row = 0;  // of words_, plus one
    uint32_t cost = 0;
  };
  FixedTable<Instruction, Best> best_;
  Match::Words words_;                       // of all matches
  FixedTable<Instruction, uint32_t> epoch_;  // how many writes came before in the block
};

}  // namespace porphyry::machine
