// The blocks of a function and the edges between them, in the DOT language of Graphviz.
#pragma once

#include <string>

#include "porphyry/ir/module.h"

namespace porphyry {

// A node a block: its label with parameters, how often it runs in one run of the function (by weights, or
// guessed), then its instructions; the deeper in loops, the darker. Edges
// carry their arguments, `yes` and `no` or the case; those back to a loop's head are thick. O(size).
std::string render_graph(const Module& module, Symbol function);

}  // namespace porphyry
