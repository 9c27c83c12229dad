// Algebraic rewrite rules as data: what a pattern looks like, what it becomes, and under which conditions.
//
// A rule is a sentence in the IR's own text (the grammar stands in rewrite/read.h):
//
//   mul x, C becomes shl x, {ctz C} where {eq (popcount C), 1}
//
// A rule holds for all widths and lanes at once: its terms have types by class, and a class has whatever type
// the instruction at hand gives it. Patterns, replacements and computed constants are terms in one flat
// table, rows of which name each other by index. A RuleTable is a view: of what read_rules gives, or of
// arrays that the build wrote.
#pragma once

#include <cstdint>
#include <span>
#include <string_view>

#include "porphyry/ir/operations.h"

namespace porphyry::rewrite {

inline constexpr uint16_t no_term = 0xffff;
inline constexpr uint8_t none = 0xff;
inline constexpr size_t most_bindings = 12, most_types = 16;  // of one rule; read_rules refuses more

enum class TermKind : uint8_t {
  Value,      // x: any value, the same wherever it is named
  Constant,   // C: any constant
  Literal,    // 0, -1, 1.0
  Operation,  // an instruction in patterns and replacements, a computation in constants
  Width,      // the bits of a type, as a number
  Least,      // the least signed number of its type
  Most        // the greatest
};

struct Term {
  TermKind kind = TermKind::Value;
  Op op = Op::Add;
  uint8_t operand_count = 0;
  uint8_t binding = none;  // of values, constants and operations with a name: its number in the rule
  uint8_t type = none;     // row of the rule's types
  uint8_t of_type = none;  // Width: of which type
  uint8_t promises = 0;    // asked of a pattern, given in a replacement
  uint8_t permits = 0;     // asked of a pattern
  bool once = false;       // the value is used here alone
  bool is_real = false;    // Literal: `number` holds the bits of an f64
  bool computed = false;   // a constant that is computed from constants
  uint16_t operands[3] = {no_term, no_term, no_term};
  int64_t number = 0;
};

enum class Relation : uint8_t { Free, TruthOf, ElementOf, DoubledOf };

// The type of some terms. It is what a matched value has, or follows from another one.
struct TypeClass {
  Relation relation = Relation::Free;
  uint8_t of = none;
};

enum class ConditionKind : uint8_t {
  Holds,
  Known,
  Varies,
  Equal,
  Narrower,
  NotWider,
  Wider,
  IsShape,
  Unused
};

struct Condition {
  ConditionKind kind;
  uint16_t term = no_term;  // Holds, Known: a bool
  uint8_t a = none,
          b = none;  // type classes; Varies: a binding; Wider: bits in b; IsShape: bits 1 << Shape in b;
                     // Unused: a result
};

struct Rule {
  uint16_t pattern = no_term;
  uint16_t becomes[2] = {no_term, no_term};  // by result; none for one that must be unused
  uint16_t first_type = 0, first_condition = 0;
  uint8_t type_count = 0, condition_count = 0, binding_count = 0;
  uint8_t shapes = 0;  // bits 1 << Shape of the types that follow from no other
  uint8_t keeps = 0;   // promises of the pattern's root that the replacement's root has, too
  uint16_t file = 0;   // row of the files
  uint16_t line = 0;
  std::string_view text;
};

// What finds the rules for an instruction: a tree over the operations of a pattern, outside in, operands in
// order.
struct Branch {
  Op op;
  uint16_t to;
};
struct Junction {
  uint16_t first_branch = 0, branch_count = 0;
  uint16_t constant = no_term, any = no_term;  // the junctions behind a constant, behind anything
  uint16_t first_entry = 0, entry_count = 0;
};
// A rule in one order of its operands.
struct Entry {
  uint16_t rule;
  uint16_t pattern;
};

struct RuleTable {
  std::span<const std::string_view> files;
  std::span<const Rule> rules;
  std::span<const Term> terms;
  std::span<const TypeClass> types;
  std::span<const Condition> conditions;
  std::span<const Junction> junctions;  // the first ones by operation of the root
  std::span<const Branch> branches;
  std::span<const Entry> entries;
  std::span<const uint16_t> weights;  // by operation
};

}  // namespace porphyry::rewrite
