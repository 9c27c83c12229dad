// Drawings as data: boxes in boxes, nodes in them, edges between. What a pass or a view leaves; render/ makes
// text, dot and pictures of it.
//
//   Drawing d{.title = "regions of chill"};
//   size_t outer = d.add_box("enter to done");
//   size_t node = d.add_node("sum", {"runs 8"}, outer);
//   d.edges.push_back({node, other, "yes"});
#pragma once

#include <string>
#include <vector>

namespace porphyry {

struct Drawing {
  static constexpr size_t none = ~size_t(0);
  struct Box {
    std::string title;
    size_t inside = none;  // another one
  };
  struct Node {
    std::string name;
    std::vector<std::string> lines;  // below the name
    size_t inside = none;            // a box
    unsigned shade = 0;              // 0 to 3: the darker, the more it matters
  };
  struct Edge {
    size_t from, to;  // nodes
    std::string label;
    bool strong = false, faint = false;
  };

  std::string title;
  std::vector<Box> boxes;
  std::vector<Node> nodes;
  std::vector<Edge> edges;
  std::vector<std::vector<std::string>> table;  // below: rows of words, the first one their heads

  size_t add_box(std::string name, size_t inside = none) {
    boxes.push_back({std::move(name), inside});
    return boxes.size() - 1;
  }
  size_t add_node(std::string name, std::vector<std::string> lines = {}, size_t inside = none) {
    nodes.push_back({std::move(name), std::move(lines), inside});
    return nodes.size() - 1;
  }
};

}  // namespace porphyry
