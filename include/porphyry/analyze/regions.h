// Regions with one way in and one way out, as a tree.
//
//   const Regions& regions = facts.get<Regions>();
//   for (Region r = regions.of(block); r.exists(); r = regions.parent(r)) … regions.entry(r) …
//
// A region lies between two edges: every way to the second one passes the first one, every way from the first
// one on passes the second one, and whatever goes around through one of them goes through the other. In
// it are the blocks that the first edge leads to before the second. Two regions are apart, or one lies in the
// other. Of those that begin with an edge only the smallest is listed; larger ones are rows of neighbours,
// each of which begins with the edge that ends the one before.
#pragma once

#include <span>
#include <vector>

#include "porphyry/ir/order.h"

namespace porphyry {

using Region = Id<struct RegionTag>;

class Regions {
 public:
  static constexpr const char* name = "regions";

  // R. Johnson, D. Pearson, K. Pingali, "The Program Structure Tree: Computing Control Regions in Linear
  // Time", 1994. Any graph, also one whose loops have several ways in. Blocks from which no end is reached
  // count as if one of each endless loop led to the end. O(blocks + edges).
  explicit Regions(const Function& function);

  size_t count() const { return rows_.size(); }  // regions are numbered from 0, outer ones first
  Edge entry(Region r) const { return rows_[r.index].entry; }
  Edge exit(Region r) const { return rows_[r.index].exit; }
  // The smallest region around; nothing for the outermost ones.
  Region parent(Region r) const { return rows_[r.index].parent; }
  // The smallest region that a block is in; nothing when it is in none, or cannot be reached.
  Region of(Block b) const { return of_[b]; }
  bool operator==(const Regions& other) const;

 private:
  struct Row {
    Edge entry, exit;
    Region parent;
    bool operator==(const Row&) const = default;
  };
  std::vector<Row> rows_;
  Table<Block, Region> of_;
};

}  // namespace porphyry
