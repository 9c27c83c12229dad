// Reads rule files.
//
//   -- a comment
//   cost mul 5 by 3                                     what an operation weighs: see rules_that_do_not_end
//   for integers, bools                                 the types of the next rules that follow from no other
//     and x, x becomes x
//     sub x, C becomes add x, {neg C} keeping fits.s where {ne C, lowest}
//     narrow T (widen.u x:S) becomes widen.u T x where S narrower T
//     add x, 0.0 permit nozerosign becomes x
//     add.over.s x, 0 becomes x, false
//
// A rule begins two spaces in; lines that are further in belong to it. Small letters name values, capitals
// constants; a capital behind an operation that states its result's type, or behind `:`, names a type.
// Operations inside others stand in parentheses, with `promise …`, `permit …`, `once` (it has no other use)
// and `as name` behind their operands. Braces hold what is computed from constants, with the IR's operations,
// `width` (of the type it stands at; `width T` of another), `lowest` and `highest`. `-` in the place of a
// result: it must be unused.
//
// Conditions: `{…}` is true · `known {…}`: is true of these values wherever the analysis of numbers shows it
// · `x varies`: is no constant · `S = T`, `S narrower T`, `S not wider T`, `T wider 8` · `T is integer`
// (bool, float, pointer).
#pragma once

#include <deque>
#include <string>
#include <vector>

#include "porphyry/base/diagnostics.h"
#include "porphyry/base/source_text.h"
#include "porphyry/rewrite/rule.h"

namespace porphyry::rewrite {

struct RuleBook {
  RuleBook() = default;
  RuleBook(RuleBook&&) = default;  // not copied: rows name texts
  std::vector<std::string> files;
  std::vector<Rule> rules;
  std::vector<Term> terms;
  std::vector<TypeClass> types;
  std::vector<Condition> conditions;
  std::vector<Junction> junctions;
  std::vector<Branch> branches;
  std::vector<Entry> entries;
  std::deque<std::string> texts;  // what the rules' texts lie in
  std::vector<std::string_view> file_names;
  std::vector<uint16_t> weights = std::vector<uint16_t>(operation_count, 4),
                        factors = std::vector<uint16_t>(operation_count, 1);

  // Valid while the book is neither changed nor moved.
  RuleTable table() const {
    return {file_names, rules, terms, types, conditions, junctions, branches, entries, weights};
  }
};

// All mistakes of all files at once. O(length), and rules times orders of their operands for the index.
Result<RuleBook> read_rules(std::span<const SourceText> files);

// The measure that every rule lowers, so that no two undo each other and rewriting ends: an operation with
// one operand that is no constant weighs factor * (operand) + weight, with more of them 2 * factor * (their
// sum) + weight; a constant 0. The complaint says by which variable or weight a rule fails, and for which
// values being constants.
Diagnostics rules_that_do_not_end(const RuleBook& book);

}  // namespace porphyry::rewrite
