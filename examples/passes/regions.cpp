// A pass in a shared library: it walks the regions of each function and says of each, in a sentence, where it
// starts and ends, how deep it lies and which blocks are in it; and it leaves a drawing.
//
//   porphyry why orchard.por --passes ./example_regions.so --pipeline tell-regions
//   porphyry show orchard.por --passes ./example_regions.so --pipeline tell-regions --view drawings
#include <fmt/format.h>

#include "porphyry/analyze/dominators.h"
#include "porphyry/analyze/regions.h"
#include "porphyry/optimize/user_passes.h"
#include "porphyry/print/print.h"

namespace {

using namespace porphyry;

class Teller {
 public:
  explicit Teller(FunctionContext& c) : c_(c), f_(c.function), regions_(c.facts.get<Regions>()) {}

  void run() {
    Drawing drawing{.title = fmt::format("regions of {}", c_.module.symbol_name(c_.symbol))};
    for (size_t k = 0; k < regions_.count(); ++k) {
      const Region r(k), parent = regions_.parent(r);
      const std::string start = name(f_.to(regions_.entry(r))), end = name(f_.from(regions_.exit(r)));
      const std::vector<std::string> blocks = blocks_of(r);
      drawing.add_box(start + " to " + end, parent.exists() ? parent.index : Drawing::none);
      for (const std::string& b : blocks) drawing.add_node(b, {}, k);
      c_.done({}, start, fmt::format("a region starts at {} and ends behind {}", start, end),
              fmt::format("it lies {} deep and holds {}", depth(r),
                          blocks.empty() ? "only smaller regions" : listed(blocks, "and")));
    }
    c_.draw(std::move(drawing));
  }

 private:
  std::string name(Block b) const { return block_text(c_.module, f_, b); }
  size_t depth(Region r) const {
    size_t out = 0;
    for (; r.exists(); r = regions_.parent(r)) ++out;
    return out;
  }
  // Those that no smaller region holds.
  std::vector<std::string> blocks_of(Region r) const {
    std::vector<std::string> out;
    for (Block b : f_.blocks())
      if (regions_.of(b) == r) out.push_back(name(b));
    return out;
  }

  FunctionContext& c_;
  const Function& f_;
  const Regions& regions_;
};

}  // namespace

PORPHYRY_USER_PASSES(table) {
  table.add({.name = "tell-regions",
             .doc = "says of each region where it starts and ends, how deep it lies and what is in it",
             .run = [](FunctionContext& c) { Teller(c).run(); },
             .keeps = keeps_all()});
}
