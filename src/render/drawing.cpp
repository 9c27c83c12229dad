#include "porphyry/render/drawing.h"

#include <fmt/format.h>

#include <algorithm>

#include "ink.h"
#include "json.h"

namespace porphyry {
namespace {

std::vector<std::vector<size_t>> edges_from(const Drawing& d) {
  std::vector<std::vector<size_t>> out(d.nodes.size());
  for (size_t k = 0; k < d.edges.size(); ++k) out[d.edges[k].from].push_back(k);
  return out;
}

class TextWriter {
 public:
  TextWriter(const Drawing& d, bool colour) : d_(d), ink_{colour}, leaving_(edges_from(d)) {}

  std::string run() {
    out_ = ink_(bold, d_.title) + "\n";
    inside(Drawing::none, 0);
    if (!d_.table.empty()) out_ += "\n" + columns(d_.table, "l");
    return std::move(out_);
  }

 private:
  // What a box holds, in the order in which it was added: nodes, then boxes.
  void inside(size_t box, size_t depth) {
    const std::string indent(2 * depth, ' ');
    for (size_t k = 0; k < d_.nodes.size(); ++k) {
      const Drawing::Node& n = d_.nodes[k];
      if (n.inside != box) continue;
      out_ += indent + n.name;
      if (n.lines.size() == 1) out_ += ink_(faint, "  " + n.lines[0]);
      out_ += "\n";
      if (n.lines.size() > 1)
        for (const std::string& l : n.lines) out_ += indent + ink_(faint, "    " + l) + "\n";
      for (size_t e : leaving_[k])
        out_ += indent + "  to " + d_.nodes[d_.edges[e].to].name +
                (d_.edges[e].label.empty() ? "" : " (" + d_.edges[e].label + ")") +
                (d_.edges[e].strong ? ", back" : "") + "\n";
    }
    for (size_t k = 0; k < d_.boxes.size(); ++k) {
      if (d_.boxes[k].inside != box) continue;
      out_ += indent + ink_(amber, "[" + d_.boxes[k].title + "]") + "\n";
      inside(k, depth + 1);
    }
  }

  const Drawing& d_;
  Ink ink_;
  std::vector<std::vector<size_t>> leaving_;
  std::string out_;
};

std::string in_quotes(std::string_view text) {
  std::string out;
  for (char c : text) {
    if (c == '"' || c == '\\') out += '\\';
    out += c;
  }
  return out;
}

class DotWriter {
 public:
  explicit DotWriter(const Drawing& d) : d_(d) {}

  std::string run() {
    out_ = fmt::format(
        "digraph drawing {{\n  label=\"{}\"; labelloc=t; labeljust=l; fontname=\"DejaVu Sans Mono\"; "
        "fontsize=13;\n",
        in_quotes(d_.title));
    out_ +=
        "  bgcolor=\"#fbfaf7\"; rankdir=TB; nodesep=0.35; ranksep=0.4;\n"
        "  node [shape=box, style=\"filled,rounded\", color=\"#8d8575\", fontname=\"DejaVu Sans Mono\", "
        "fontsize=10, fontcolor=\"#2b2b2b\"];\n"
        "  edge [fontname=\"DejaVu Sans Mono\", fontsize=9, color=\"#6b6456\", fontcolor=\"#6b6456\", "
        "arrowsize=0.7];\n";
    inside(Drawing::none, "  ");
    for (const Drawing::Edge& e : d_.edges)
      out_ += fmt::format("  n{} -> n{} [label=\" {} \"{}{}];\n", e.from, e.to, in_quotes(e.label),
                          e.strong ? ", penwidth=2.2, color=\"#a86b00\", fontcolor=\"#a86b00\"" : "",
                          e.faint ? ", style=dashed" : "");
    table();
    return out_ + "}\n";
  }

 private:
  void inside(size_t box, const std::string& indent) {
    static constexpr const char* shades[] = {"#ffffff", "#f3ece0", "#e8dcc4", "#dccba8"};
    for (size_t k = 0; k < d_.nodes.size(); ++k) {
      const Drawing::Node& n = d_.nodes[k];
      if (n.inside != box) continue;
      std::string label = in_quotes(n.name);
      for (const std::string& l : n.lines) label += "\\l" + in_quotes(l);
      if (!n.lines.empty()) label += "\\l";
      out_ += fmt::format("{}n{} [label=\"{}\", fillcolor=\"{}\"];\n", indent, k, label,
                          shades[std::min(n.shade, 3u)]);
    }
    for (size_t k = 0; k < d_.boxes.size(); ++k) {
      if (d_.boxes[k].inside != box) continue;
      out_ += fmt::format(
          "{}subgraph cluster_{} {{\n{}  label=\"{}\"; labeljust=l; style=\"rounded\"; color=\"#4d5b46\"; "
          "fontname=\"DejaVu Sans Mono\"; fontsize=10; fontcolor=\"#4d5b46\";\n",
          indent, k, indent, in_quotes(d_.boxes[k].title));
      inside(k, indent + "  ");
      out_ += indent + "}\n";
    }
  }
  // Rows below, as a plain text block: long tables are for the text form.
  void table() {
    constexpr size_t most = 30;
    if (d_.table.empty()) return;
    std::vector<std::vector<std::string>> rows(
        d_.table.begin(), d_.table.begin() + static_cast<ptrdiff_t>(std::min(most, d_.table.size())));
    std::string text = in_quotes(columns(rows, "l"));
    for (size_t at = 0; (at = text.find('\n', at)) != text.npos; at += 2) text.replace(at, 1, "\\l");
    if (d_.table.size() > most) text += fmt::format("and {} more rows\\l", d_.table.size() - most);
    out_ += fmt::format("  table [shape=plain, style=\"\", label=\"{}\"];\n", text);
  }

  const Drawing& d_;
  std::string out_;
};

}  // namespace

std::string render(const Drawing& drawing, bool colour) { return TextWriter(drawing, colour).run(); }
std::string render_dot(const Drawing& drawing) { return DotWriter(drawing).run(); }

std::string render_json(const Drawing& d) {
  Json boxes = Json::array(), nodes = Json::array(), edges = Json::array();
  auto box = [](size_t k) { return k == Drawing::none ? Json(nullptr) : Json(k); };
  for (const auto& b : d.boxes) boxes.push_back({{"title", b.title}, {"inside", box(b.inside)}});
  for (const auto& n : d.nodes)
    nodes.push_back({{"name", n.name}, {"lines", n.lines}, {"inside", box(n.inside)}, {"shade", n.shade}});
  for (const auto& e : d.edges)
    edges.push_back(
        {{"from", e.from}, {"to", e.to}, {"label", e.label}, {"strong", e.strong}, {"faint", e.faint}});
  return json_text(
      {{"title", d.title}, {"boxes", boxes}, {"nodes", nodes}, {"edges", edges}, {"table", d.table}});
}

}  // namespace porphyry
