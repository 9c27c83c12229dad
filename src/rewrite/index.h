#pragma once

#include "porphyry/rewrite/read.h"

namespace porphyry::rewrite {

// Adds the orders of operands that a rule's commuting operations and comparisons have, and the tree that
// finds entries by operations.
void add_index(RuleBook& book);

}  // namespace porphyry::rewrite
