// Two edges bound a region exactly when every cycle through one of them goes through the other, in the graph
// with an edge from the end back to the start. Directions do not matter for that in a graph where each block
// lies on a way from the start to the end: so one undirected depth-first walk finds the classes of edges. Of
// each tree edge it keeps the brackets, the other edges that lead from below it to above it: two tree edges
// with the same brackets are in one class, and a list is told from others by its newest bracket and its
// length. Sorted by dominance, neighbours in a class are the regions.
#include "porphyry/analyze/regions.h"

#include <algorithm>

namespace porphyry {
namespace {

// An edge of the graph; those that are not in the function lead to the end, and from it to the start.
struct Arc {
  uint32_t from, to;
  Edge edge;
};

struct Graph {
  std::vector<Arc> arcs;
  std::vector<uint32_t> first, at;  // of each node where its arcs begin in `at`, in either direction
  size_t nodes() const { return first.size() - 1; }
  std::span<const uint32_t> of(size_t node) const {
    return std::span(at).subspan(first[node], first[node + 1] - first[node]);
  }
};

// One arc to the end from each block without a way out, and from one of each group that leads to none.
void arcs_to_the_end(const Function& f, const Blocks& order, const Table<Block, uint32_t>& number,
                     std::vector<Arc>& arcs) {
  const uint32_t end = static_cast<uint32_t>(order.size());
  std::vector<uint8_t> reaches(order.size());
  std::vector<Block> work;
  auto lead_to_end = [&](uint32_t node) {
    arcs.push_back({node, end, {}});
    if (!std::exchange(reaches[node], uint8_t(1))) work.push_back(order[node]);
    while (!work.empty()) {
      Block b = work.back();
      work.pop_back();
      for (Edge e : f.edges_into(b))
        if (uint32_t from = number[f.from(e)]; from-- && !std::exchange(reaches[from], uint8_t(1)))
          work.push_back(order[from]);
    }
  };
  for (uint32_t k = 0; k < end; ++k)
    if (f.edges(order[k]).size() == 0) lead_to_end(k);
  for (uint32_t k = end; k-- > 0;)
    if (!reaches[k]) lead_to_end(k);
}

Graph graph_of(const Function& f, const Blocks& order, const Table<Block, uint32_t>& number) {
  Graph g;
  for (uint32_t k = 0; k < order.size(); ++k)
    for (Edge e : f.edges(order[k])) g.arcs.push_back({k, number[f.to(e)] - 1, e});
  arcs_to_the_end(f, order, number, g.arcs);
  g.arcs.push_back({static_cast<uint32_t>(order.size()), 0, {}});
  g.first.assign(order.size() + 2, 0);
  for (const Arc& a : g.arcs) ++g.first[a.from + 1], ++g.first[a.to + 1];
  for (size_t k = 1; k < g.first.size(); ++k) g.first[k] += g.first[k - 1];
  g.at.resize(g.first.back());
  std::vector<uint32_t> next(g.first.begin(), g.first.end() - 1);
  for (uint32_t k = 0; k < g.arcs.size(); ++k)
    g.at[next[g.arcs[k].from]++] = k, g.at[next[g.arcs[k].to]++] = k;
  return g;
}

constexpr uint32_t none = ~uint32_t(0);

// The class of each arc.
class CycleClasses {
 public:
  explicit CycleClasses(const Graph& g)
      : g_(g), classes_(g.arcs.size(), none), brackets_(g.arcs.size()), nodes_(g.nodes()) {}

  std::vector<uint32_t> run() {
    walk();
    for (size_t k = order_.size(); k-- > 0;) close(order_[k]);
    // An arc from a block to itself is a cycle of its own.
    for (uint32_t& c : classes_)
      if (c == none) c = class_count_++;
    return std::move(classes_);
  }

 private:
  // An arc that is no tree edge, or a cap: an edge that stands for others from further below. Doubly linked.
  struct Bracket {
    uint32_t previous = none, next = none, recent_size = none, recent_class = none;
  };
  struct List {
    uint32_t first = none, last = none, size = 0;  // the newest first
  };
  struct Node {
    uint32_t place = none;                     // in the walk
    uint32_t tree = none;                      // the arc from its parent
    uint32_t parent = none;                    // a node
    uint32_t high = none, second_high = none;  // of its children: the two least places that brackets lead to
    List brackets;
    std::vector<uint32_t> from_below, to_above;  // arcs that are no tree edges; caps among the first
  };

  uint32_t other(uint32_t arc, uint32_t node) const {
    return g_.arcs[arc].from == node ? g_.arcs[arc].to : g_.arcs[arc].from;
  }

  void walk() {
    struct Visit {
      uint32_t node;
      size_t next;
    };
    std::vector<Visit> way{{static_cast<uint32_t>(g_.nodes() - 1), 0}};
    enter(way[0].node);
    while (!way.empty()) {
      Visit& v = way.back();
      if (v.next == g_.of(v.node).size()) {
        way.pop_back();
        continue;
      }
      uint32_t arc = g_.of(v.node)[v.next++], from = v.node, to = other(arc, from);
      if (to == from || arc == nodes_[from].tree) continue;
      if (nodes_[to].place == none) {
        enter(to);
        nodes_[to].tree = arc, nodes_[to].parent = from;
        way.push_back({to, 0});
      } else if (nodes_[to].place < nodes_[from].place) {
        nodes_[from].to_above.push_back(arc);
        nodes_[to].from_below.push_back(arc);
      }
    }
  }
  void enter(uint32_t node) {
    nodes_[node].place = static_cast<uint32_t>(order_.size());
    order_.push_back(node);
  }

  // All children are closed.
  void close(uint32_t n) {
    Node& node = nodes_[n];
    for (uint32_t arc : node.from_below) {
      remove(node.brackets, arc);
      if (arc < g_.arcs.size() && classes_[arc] == none) classes_[arc] = class_count_++;
    }
    uint32_t own = none;
    for (uint32_t arc : node.to_above) {
      own = std::min(own, nodes_[other(arc, n)].place);
      push(node.brackets, arc);
    }
    if (node.second_high < own && node.second_high < node.place) {
      uint32_t cap = static_cast<uint32_t>(brackets_.size());
      brackets_.emplace_back();
      push(node.brackets, cap);
      nodes_[order_[node.second_high]].from_below.push_back(cap);
    }
    if (node.parent == none) return;
    classify(node);
    Node& parent = nodes_[node.parent];
    uint32_t high = std::min(node.high, own);
    if (high < parent.high)
      parent.second_high = std::exchange(parent.high, high);
    else
      parent.second_high = std::min(parent.second_high, high);
    join(parent.brackets, node.brackets);
  }
  // The tree edge to the node. There is a bracket, as each arc is on a cycle.
  void classify(const Node& node) {
    uint32_t top = node.brackets.first;
    Bracket& b = brackets_[top];
    if (b.recent_size != node.brackets.size)
      b.recent_size = node.brackets.size, b.recent_class = class_count_++;
    classes_[node.tree] = b.recent_class;
    if (b.recent_size == 1 && top < g_.arcs.size()) classes_[top] = b.recent_class;
  }

  void push(List& list, uint32_t b) {
    brackets_[b].previous = none, brackets_[b].next = list.first;
    (list.first == none ? list.last : brackets_[list.first].previous) = b;
    list.first = b;
    ++list.size;
  }
  void remove(List& list, uint32_t b) {
    Bracket& row = brackets_[b];
    (row.previous == none ? list.first : brackets_[row.previous].next) = row.next;
    (row.next == none ? list.last : brackets_[row.next].previous) = row.previous;
    --list.size;
  }
  void join(List& list, const List& behind) {
    if (behind.size == 0) return;
    if (list.size == 0) {
      list = behind;
      return;
    }
    brackets_[list.last].next = behind.first;
    brackets_[behind.first].previous = list.last;
    list.last = behind.last;
    list.size += behind.size;
  }

  const Graph& g_;
  std::vector<uint32_t> classes_;
  std::vector<Bracket> brackets_;  // by arc; caps behind them
  std::vector<Node> nodes_;
  std::vector<uint32_t> order_;  // of the walk
  uint32_t class_count_ = 0;
};

}  // namespace

Regions::Regions(const Function& f) : of_(f.block_limit()) {
  Blocks order = reverse_postorder(f);
  Table<Block, uint32_t> number(f.block_limit());  // place plus one
  for (uint32_t k = 0; k < order.size(); ++k) number[order[k]] = k + 1;
  Graph g = graph_of(f, order, number);
  std::vector<uint32_t> classes = CycleClasses(g).run();
  // Arcs stand in the order of their sources, which in a class is that of dominance.
  std::vector<uint32_t> last(g.arcs.size(), none);                                    // of a class so far
  std::vector<uint32_t> exit_of(g.arcs.size(), none), entry_of(g.arcs.size(), none);  // of arcs, arcs
  for (uint32_t k = 0; k < g.arcs.size() && g.arcs[k].edge.exists(); ++k) {
    uint32_t& before = last[classes[k]];
    if (before != none) exit_of[before] = k, entry_of[k] = before;
    before = k;
  }
  // Outer regions are entered first.
  std::vector<Region> region_at(g.arcs.size());  // that an arc enters
  std::vector<uint8_t> seen(order.size());
  seen[0] = 1;
  std::vector<uint32_t> work{0}, first(order.size() + 1);
  for (uint32_t k = 0; k < g.arcs.size() && g.arcs[k].edge.exists(); ++k) ++first[g.arcs[k].from + 1];
  for (size_t k = 1; k < first.size(); ++k) first[k] += first[k - 1];
  while (!work.empty()) {
    uint32_t node = work.back();
    work.pop_back();
    for (uint32_t k = first[node]; k < first[node + 1]; ++k) {
      Region now = of_[order[node]];
      if (entry_of[k] != none) now = rows_[now.index].parent;
      if (exit_of[k] != none) {
        if (!region_at[k].exists()) {
          region_at[k] = Region(static_cast<uint32_t>(rows_.size()));
          rows_.push_back({g.arcs[k].edge, g.arcs[exit_of[k]].edge, now});
        }
        now = region_at[k];
      }
      uint32_t to = g.arcs[k].to;
      if (std::exchange(seen[to], uint8_t(1))) continue;
      of_[order[to]] = now;
      work.push_back(to);
    }
  }
}

bool Regions::operator==(const Regions& other) const {
  return rows_ == other.rows_ && std::equal(of_.begin(), of_.end(), other.of_.begin(), other.of_.end());
}

}  // namespace porphyry
