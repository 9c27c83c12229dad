// `choose` as a balanced tree of comparisons: n cases make n equality tests at the leaves and fewer than n
// orderings above them, log n of which a run meets.
#include <algorithm>

#include "porphyry/ir/pen.h"
#include "steps.h"

namespace porphyry::machine {
namespace {

// Cases that stand in a row and go the same way with the same arguments are one range.
struct Range {
  Word least, greatest;
  size_t edge;
};

class ChoiceSplitter {
 public:
  ChoiceSplitter(Module& module, Function& f) : f_(f), pen_(module, f) {}

  void run(Instruction choose) {
    choose_ = choose;
    value_ = f_.operand(choose, 0);
    home_ = f_.block(choose);
    for (Edge e : f_.edges(choose)) {
      ways_.push_back({f_.to(e), {}, f_.weight(e)});
      for (size_t k = 0; k < f_.argument_count(e); ++k) ways_.back().arguments.push_back(f_.argument(e, k));
    }
    gather_ranges();
    Position position = f_.position(choose);
    f_.erase(choose);
    pen_.from(position);
    struct Task {
      Block block;
      size_t first, last;
    };
    std::vector<Task> tasks{{home_, 0, ranges_.size()}};
    while (!tasks.empty()) {
      auto [block, first, last] = tasks.back();
      tasks.pop_back();
      pen_.at_end(block);
      if (last == first) {
        go(ways_.size() - 1);
      } else if (last - first == 1) {
        leaf(ranges_[first]);
      } else {
        size_t middle = (first + last) / 2;
        Block high = f_.add_block_after(block), low = f_.add_block_after(block);
        pen_.when(pen_.write(Op::LtU, {value_, number(ranges_[middle].least)}), low, {}, high, {});
        tasks.push_back({high, middle, last});
        tasks.push_back({low, first, middle});
      }
    }
  }

 private:
  struct Way {
    Block to;
    std::vector<Value> arguments;
    uint64_t weight;
  };

  void gather_ranges() {
    for (size_t k = 0; k + 1 < ways_.size(); ++k) {
      Word v = f_.case_value(choose_, k);
      ranges_.push_back({v, v, k});
    }
    std::sort(ranges_.begin(), ranges_.end(),
              [](const Range& a, const Range& b) { return a.least < b.least; });
    size_t kept = 0;
    for (const Range& r : ranges_) {
      bool joins = kept && ranges_[kept - 1].greatest + 1 == r.least &&
                   ways_[ranges_[kept - 1].edge].to == ways_[r.edge].to &&
                   ways_[ranges_[kept - 1].edge].arguments == ways_[r.edge].arguments;
      if (joins)
        ranges_[kept - 1].greatest = r.greatest;
      else
        ranges_[kept++] = r;
    }
    ranges_.resize(kept);
  }

  Value number(Word n) { return f_.constant(f_.type(value_), n); }

  void leaf(const Range& r) {
    Value inside =
        r.least == r.greatest
            ? pen_.write(Op::Eq, {value_, number(r.least)})
            : pen_.write(Op::LeU, {pen_.sub(value_, number(r.least)), number(r.greatest - r.least)});
    const Way &yes = ways_[r.edge], &no = ways_.back();
    Function::Draft::Target targets[] = {{yes.to, yes.arguments}, {no.to, no.arguments}};
    pen_.put({.op = Op::When, .operands = {&inside, 1}, .targets = targets});
  }
  void go(size_t way) {
    Function::Draft::Target target{ways_[way].to, ways_[way].arguments};
    pen_.put({.op = Op::Go, .targets = {&target, 1}});
  }

  Function& f_;
  Pen pen_;
  Instruction choose_;
  Value value_;
  Block home_;
  std::vector<Way> ways_;
  std::vector<Range> ranges_;
};

}  // namespace

void choices_to_branches(Module& module, Function& f) {
  std::vector<Instruction> all;
  for (Block b = f.entry(); b.exists(); b = f.next(b))
    if (Instruction end = f.terminator(b); end.exists() && f.op(end) == Op::Choose) all.push_back(end);
  for (Instruction i : all) ChoiceSplitter(module, f).run(i);
}

}  // namespace porphyry::machine
