// `choose` as a tree of comparisons: n cases make n equality tests, up to three in a row at each leaf, and
// about n / 2.5 orderings above them. Orderings part the cases where half of the runs lie, by the edges'
// weights, so that a case which takes 1 / w of the runs is met after about log w comparisons (K. Mehlhorn,
// "Nearly Optimal Binary Search Trees", 1975); without weights the tree is balanced. Where many numbers
// within a word of each other lead to few places, a bit tells of each (R. Bernstein, "Producing Good Code for
// the Case Statement", 1985). Where numbers are dense and all about as likely, a `choose` among 0, 1 and so
// on stays, which becomes a jump table; targets without a rule for it have none. Neither bits nor tables ask
// whether a number lies among theirs where what computes it shows that.
#include <algorithm>
#include <cmath>
#include <optional>

#include "porphyry/analyze/number.h"
#include "porphyry/ir/pen.h"
#include "state.h"

namespace porphyry::machine {
namespace {

// Tests one after the other cost less than an ordering and a block of its own for each.
constexpr size_t in_a_row = 3;

// Cases that stand in a row and go the same way with the same arguments are one range.
struct Range {
  Bits least, greatest;
  size_t edge;
  double weight;  // of its cases; 1 without weights
};

class ChoiceSplitter {
 public:
  ChoiceSplitter(FunctionContext& c)
      : f_(c.function),
        pen_(c.module, f_),
        word_(Type::integer(c.module.layout.pointer_bits)),
        has_tables_(state(c).coverage.covers(Op::Choose, word_, {})) {}

  void run(Instruction choose) {
    choose_ = choose;
    value_ = f_.operand(choose, 0);
    possible_ = number_of(f_, value_);
    home_ = f_.block(choose);
    for (Edge e : f_.edges(choose)) {
      lowerings_.push_back({f_.to(e), {}, f_.weight(e)});
      for (Value v : f_.arguments(e)) lowerings_.back().arguments.push_back(v);
    }
    gather_ranges();
    weigh_ranges();
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
      if (last - first <= in_a_row) {
        leaf(first, last);
      } else if (auto ways = ways_in_a_word(first, last)) {
        by_bits(first, last, *ways);
      } else if (suits_a_table(first, last)) {
        by_table(first, last);
      } else {
        size_t middle = where_halved(first, last);
        // What is made next is also laid out and met next: large trees are walked along the memory.
        Block low = f_.add_block_after(block), high = f_.add_block_after(block);
        Value below = pen_.write(Op::LtU, {value_, number(ranges_[middle].least)});
        branch(below, {low, {}, runs(first, middle)}, {high, {}, runs(middle, last)});
        tasks.push_back({low, first, middle});
        tasks.push_back({high, middle, last});
      }
    }
  }

 private:
  struct Way {
    Block to;
    std::vector<Value> arguments;
    uint64_t weight;
  };
  using Target = Function::Draft::Destination;

  void gather_ranges() {
    for (size_t k = 0; k + 1 < lowerings_.size(); ++k) {
      Bits v = f_.case_value(choose_, k);
      weighted_ &= lowerings_[k].weight != Function::no_weight;
      ranges_.push_back({v, v, k, static_cast<double>(lowerings_[k].weight)});
    }
    std::sort(ranges_.begin(), ranges_.end(),
              [](const Range& a, const Range& b) { return a.least < b.least; });
    size_t kept = 0;
    for (const Range& r : ranges_) {
      bool joins = kept && ranges_[kept - 1].greatest + 1 == r.least &&
                   lowerings_[ranges_[kept - 1].edge].to == lowerings_[r.edge].to &&
                   lowerings_[ranges_[kept - 1].edge].arguments == lowerings_[r.edge].arguments;
      if (joins)
        ranges_[kept - 1].greatest = r.greatest, ranges_[kept - 1].weight += r.weight;
      else
        ranges_[kept++] = r;
    }
    ranges_.resize(kept);
  }

  // The runs that match no case are taken to end evenly among the ranges. A sixteenth is put on top for all
  // alike, so that many cases which never came up do not become a chain.
  void weigh_ranges() {
    weighted_ &= lowerings_.back().weight != Function::no_weight;
    double sum = 0, elsewhere = weighted_ ? static_cast<double>(lowerings_.back().weight) : 0;
    for (Range& r : ranges_) sum += r.weight = weighted_ ? r.weight : 1;
    double each = 1 / static_cast<double>(std::max<size_t>(1, ranges_.size()));
    least_ = each * std::max(1.0, (sum + elsewhere) / 16);
    before_.reserve(ranges_.size() + 1);
    before_.push_back(0);
    for (const Range& r : ranges_) before_.push_back(before_.back() + r.weight + each * elsewhere + least_);
  }

  // The first range of the upper half, by weight; neither half is empty.
  size_t where_halved(size_t first, size_t last) const {
    if (!weighted_) return (first + last) / 2;
    double half = (before_[first] + before_[last]) / 2;
    auto at = std::lower_bound(before_.begin() + static_cast<ptrdiff_t>(first) + 1,
                               before_.begin() + static_cast<ptrdiff_t>(last) - 1, half);
    bool nearer_before =
        at - before_.begin() > static_cast<ptrdiff_t>(first) + 1 && half - at[-1] < *at - half;
    return static_cast<size_t>(at - before_.begin()) - nearer_before;
  }

  uint64_t count(double runs) const {
    constexpr double most = 0x1p62;
    return weighted_ ? static_cast<uint64_t>(std::clamp(runs, 0.0, most)) : Function::no_weight;
  }
  double share(size_t first, size_t last) const {
    return before_[last] - before_[first] - least_ * static_cast<double>(last - first);
  }
  uint64_t runs(size_t first, size_t last) const { return count(share(first, last)); }

  Value number(Bits n) { return f_.constant(f_.type(value_), n); }

  // Tests of a few ranges one after the other, the likeliest first; what none of them matches goes elsewhere.
  void leaf(size_t first, size_t last) {
    const Way& elsewhere = lowerings_.back();
    if (first == last) {
      Target target{elsewhere.to, elsewhere.arguments};
      pen_.put({.op = Op::Go, .targets = {&target, 1}});
      return;
    }
    Range tests[in_a_row];
    auto end = std::copy(ranges_.begin() + static_cast<ptrdiff_t>(first),
                         ranges_.begin() + static_cast<ptrdiff_t>(last), tests);
    std::stable_sort(tests, end, [](const Range& a, const Range& b) { return a.weight > b.weight; });
    double left = share(first, last);
    for (const Range* r = tests; r != end; ++r) {
      left -= r->weight;
      const Way& way = lowerings_[r->edge];
      Block next = r + 1 == end ? elsewhere.to : f_.add_block_after(pen_.block());
      Target no{next, r + 1 == end ? elsewhere.arguments : std::span<const Value>(), count(left)};
      branch(inside(*r), {way.to, way.arguments, count(r->weight)}, no);
      if (r + 1 != end) pen_.at_end(next);
    }
  }

  // Where the numbers of ranges lie within a word of each other and lead to few places: one bit a number.
  struct BitWay {
    size_t edge;
    uint64_t mask = 0;
    double weight = 0;
  };
  std::optional<std::vector<BitWay>> ways_in_a_word(size_t first, size_t last) const {
    constexpr size_t most_ways = 2;
    if (f_.type(value_).bits() > word_.bits() ||
        ranges_[last - 1].greatest - ranges_[first].least >= word_.bits())
      return std::nullopt;
    std::vector<BitWay> out;
    for (size_t k = first; k < last; ++k) {
      const Range& r = ranges_[k];
      auto same = [&](const BitWay& w) {
        const Way &a = lowerings_[w.edge], &b = lowerings_[r.edge];
        return a.to == b.to && a.arguments == b.arguments;
      };
      auto way = std::find_if(out.begin(), out.end(), same);
      if (way == out.end()) way = out.insert(out.end(), {r.edge});
      for (Bits n = r.least; n <= r.greatest; ++n)
        way->mask |= uint64_t(1) << static_cast<unsigned>(n - ranges_[first].least);
      way->weight += r.weight;
    }
    // One bit costs about two comparisons, and finding its place two more.
    if (out.size() > most_ways || last - first < (out.size() == 1 ? 4u : 10u)) return std::nullopt;
    std::stable_sort(out.begin(), out.end(),
                     [](const BitWay& a, const BitWay& b) { return a.weight > b.weight; });
    return out;
  }
  // Numbers in a row, those of some ranges among them, that places are made for.
  struct Window {
    Bits least, greatest;
  };
  // As far as numbers can be, where that is no more than `most` of them; else as the ranges are, from 0 where
  // that makes no more.
  Window window_of(size_t first, size_t last, Bits most) const {
    Window out{ranges_[first].least, ranges_[last - 1].greatest};
    if (out.greatest < most) out.least = 0;
    if (possible_.exists() && possible_.low >= out.least && possible_.high - out.least < most)
      out.greatest = std::max(out.greatest, possible_.high);
    return out;
  }
  // How far the number lies behind the least one of the window, as a word. Numbers outside of it go
  // elsewhere; the pen goes on with the others.
  Value place_in(const Window& window, uint64_t runs_inside) {
    const Way& elsewhere = lowerings_.back();
    const Value place = window.least ? pen_.sub(value_, number(window.least)) : value_;
    if (!possible_.exists() || possible_.low < window.least || possible_.high > window.greatest) {
      const Value near = pen_.write(Op::LeU, {place, number(window.greatest - window.least)});
      const Block inside = f_.add_block_after(pen_.block());
      branch(near, {inside, {}, runs_inside}, {elsewhere.to, elsewhere.arguments, Function::no_weight});
      pen_.at_end(inside);
    }
    return f_.type(place) == word_ ? place : pen_.widen_u(word_, place);
  }
  void by_bits(size_t first, size_t last, const std::vector<BitWay>& ways) {
    const Way& elsewhere = lowerings_.back();
    const Window window = window_of(first, last, word_.bits());
    const Value place = place_in(window, runs(first, last));
    const auto shift = static_cast<unsigned>(ranges_[first].least - window.least);
    double left = share(first, last);
    const Value one = f_.constant(word_, 1);
    for (size_t k = 0; k < ways.size(); ++k) {
      const Way& way = lowerings_[ways[k].edge];
      Value bit = pen_.and_(pen_.shr_u(f_.constant(word_, ways[k].mask << shift), place), one);
      bool is_last = k + 1 == ways.size();
      left -= ways[k].weight;
      Block next = is_last ? elsewhere.to : f_.add_block_after(pen_.block());
      branch(pen_.ne(bit, f_.constant(word_, 0)), {way.to, way.arguments, count(ways[k].weight)},
             {next, is_last ? elsewhere.arguments : std::span<const Value>(), count(left)});
      if (!is_last) pen_.at_end(next);
    }
  }

  // A table costs as much as three or four comparisons, wherever it leads, and four bytes for each number,
  // where a comparison with its jump takes about eight. A tree asks one for each bit that the choice tells
  // (C. Shannon, "A Mathematical Theory of Communication", 1948), and one or two more at its leaves.
  bool suits_a_table(size_t first, size_t last) const {
    constexpr double most_bits = 2;
    constexpr size_t least_ranges = 5;
    const Bits span = ranges_[last - 1].greatest - ranges_[first].least;
    if (!has_tables_ || f_.type(value_).bits() > word_.bits() || last - first < least_ranges ||
        span >= most_numbers(first, last))
      return false;
    const double sum = before_[last] - before_[first];
    double bits = 0;
    for (size_t k = first; k < last; ++k) {
      const double p = (before_[k + 1] - before_[k]) / sum;
      bits -= p * std::log2(p);
    }
    return bits > most_bits;
  }
  static Bits most_numbers(size_t first, size_t last) { return 4 * (last - first); }
  // What lies between the ranges, and beside them in the window, goes elsewhere.
  void by_table(size_t first, size_t last) {
    const Window window = window_of(first, last, most_numbers(first, last));
    const Value place = place_in(window, runs(first, last));
    const Block chooses = pen_.block(), gap = way_in(lowerings_.back(), chooses);
    std::vector<Bits> numbers;
    std::vector<Target> targets;
    auto fill_up_to = [&](Bits end, const Target& way) {
      for (Bits n = numbers.size(); n < end - window.least; ++n) numbers.push_back(n), targets.push_back(way);
    };
    for (size_t k = first; k < last; ++k) {
      const Range& r = ranges_[k];
      fill_up_to(r.least, {gap});
      const double each = r.weight / static_cast<double>(r.greatest - r.least + 1);
      fill_up_to(r.greatest + 1, {way_in(lowerings_[r.edge], chooses), {}, count(each)});
    }
    fill_up_to(window.greatest + 1, {gap});
    targets.push_back({gap, {}, count(0)});
    pen_.put(
        {.op = Op::Choose, .operands = {&place, 1}, .detail = f_.add_cases(numbers), .targets = targets});
  }
  // Where a way begins that many numbers lead to: moves of its arguments get a block of their own.
  Block way_in(const Way& way, Block behind) {
    if (way.arguments.empty()) return way.to;
    Block out = f_.add_block_after(behind);
    Block back = pen_.block();
    const Target target{way.to, way.arguments};
    pen_.at_end(out).put({.op = Op::Go, .targets = {&target, 1}});
    pen_.at_end(back);
    return out;
  }

  Value inside(const Range& r) {
    if (r.least == r.greatest) return pen_.write(Op::Eq, {value_, number(r.least)});
    return pen_.write(Op::LeU, {pen_.sub(value_, number(r.least)), number(r.greatest - r.least)});
  }

  void branch(Value condition, const Target& yes, const Target& no) {
    const Target targets[] = {yes, no};
    pen_.put({.op = Op::When, .operands = {&condition, 1}, .targets = targets});
  }

  Function& f_;
  Pen pen_;
  Type word_;
  bool has_tables_;
  Instruction choose_;
  Value value_;
  Number possible_;  // what is known of it
  Block home_;
  std::vector<Way> lowerings_;
  std::vector<Range> ranges_;   // in order of their numbers
  std::vector<double> before_;  // what lies below a range, by place; one more at the end
  double least_ = 0;            // of it, what each range has in any case
  bool weighted_ = true;
};

// Where there are many cases, tables would move again and again while they grow. A balanced tree has half as
// many orderings as equality tests, and each test ends a block. Once for all of a function: it moves all that
// is there.
void make_room(Function& f, const std::vector<Instruction>& chooses) {
  constexpr size_t many = 64;
  size_t cases = 0, words = 0;
  for (Instruction i : chooses) {
    cases += f.edge_count(i) - 1;
    words += (f.edge_count(i) - 1) * f.type(f.operand(i, 0)).words();
  }
  if (cases < many) return;
  size_t tests = cases + cases / 2;
  f.expect_more({.values = 2 * tests,
                 .slots = 3 * tests,
                 .instructions = 2 * tests,
                 .blocks = tests,
                 .edges = 2 * tests,
                 .constants = words});
}

}  // namespace

namespace legal {

void branches(FunctionContext& c) {
  Function& f = c.function;
  std::vector<Instruction> all;
  for (Block b : f.blocks())
    if (Instruction end = f.terminator(b); end.exists() && f.op(end) == Op::Choose) all.push_back(end);
  make_room(f, all);
  for (Instruction i : all) ChoiceSplitter(c).run(i);
}

}  // namespace legal

}  // namespace porphyry::machine
