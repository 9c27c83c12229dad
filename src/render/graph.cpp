#include "porphyry/render/graph.h"

#include <fmt/format.h>

#include <algorithm>

#include "ink.h"
#include "porphyry/analyze/frequency.h"
#include "porphyry/print/literals.h"
#include "porphyry/print/print.h"

namespace porphyry {
namespace {

constexpr size_t widest = 72, longest = 40;  // letters in a line, lines in a block

class GraphWriter {
 public:
  GraphWriter(const Module& module, Symbol symbol)
      : module_(module),
        symbol_(symbol),
        f_(module.function(symbol)),
        dominators_(f_),
        loops_(f_, dominators_),
        frequencies_(f_, dominators_, loops_) {}

  std::string run() {
    out_ = "digraph blocks {\n";
    line("label=<<b>{}</b>{}>; labelloc=t; labeljust=l; fontname=\"DejaVu Sans Mono\"; fontsize=13",
         as_markup(module_.symbol_name(symbol_)), as_markup(header()));
    line("bgcolor=\"#fbfaf7\"; rankdir=TB; nodesep=0.45; ranksep=0.5");
    line("node [shape=plain, fontname=\"DejaVu Sans Mono\", fontsize=10, fontcolor=\"#2b2b2b\"]");
    line(
        "edge [fontname=\"DejaVu Sans Mono\", fontsize=9, color=\"#6b6456\", fontcolor=\"#6b6456\", "
        "arrowsize=0.7]");
    for (Block b : f_.blocks()) node(b);
    for (Block b : f_.blocks()) edges(b);
    return out_ + "}\n";
  }

 private:
  template <class... A>
  void line(fmt::format_string<A...> format, A&&... arguments) {
    out_ += "  " + fmt::format(format, std::forward<A>(arguments)...) + ";\n";
  }

  static std::string cut(std::string text) {
    std::replace(text.begin(), text.end(), '\n', ' ');
    return text.size() <= widest ? text : fmt::format("{:.{}}…", text, widest - 1);
  }
  std::string label(Block b) const {
    std::string out = block_text(module_, f_, b);
    std::string list;
    for (Value v : f_.parameters(b))
      list += (list.empty() ? "" : ", ") + value_text(module_, f_, v) + ": " + f_.type(v).name();
    return list.empty() ? out : out + "(" + list + ")";
  }

  // "(temps: ptr, n: i64) -> i32"
  std::string header() const {
    std::string out;
    for (Value v : f_.parameters())
      out += (out.empty() ? "" : ", ") + value_text(module_, f_, v) + ": " + f_.type(v).name();
    std::string results;
    for (Type t : f_.signature().results) results += (results.empty() ? " -> " : ", ") + t.name();
    return "(" + out + ")" + results;
  }

  void node(Block b) {
    static constexpr const char* shades[] = {"#ffffff", "#f3ece0", "#e8dcc4", "#dccba8"};
    const char* shade = shades[std::min<unsigned>(loops_.depth(b), std::size(shades) - 1)];
    std::string rows = fmt::format(
        "<tr><td align=\"left\" bgcolor=\"{}\"><font color=\"#ffffff\"><b>{}</b>  {:.3g} "
        "times</font></td></tr>",
        dominators_.reachable(b) ? "#4d5b46" : "#a39b8c", as_markup(cut(label(b))), frequencies_.of(b));
    std::string body;
    size_t lines = 0;
    for (Instruction i = f_.first(b); i.exists(); i = f_.next(i), ++lines)
      if (lines < longest) body += as_markup(cut(write_text(module_, f_, i))) + "<br align=\"left\"/>";
    if (lines > longest) body += fmt::format("… {} more<br align=\"left\"/>", lines - longest);
    rows += fmt::format("<tr><td align=\"left\" balign=\"left\" bgcolor=\"{}\">{}</td></tr>", shade, body);
    line(
        "b{} [label=<<table border=\"1\" cellborder=\"0\" cellspacing=\"0\" cellpadding=\"5\" "
        "color=\"#8d8575\">{}</table>>]",
        b.index, rows);
  }

  void edges(Block b) {
    Instruction end = f_.terminator(b);
    if (!end.exists()) return;
    for (size_t k = 0; k < f_.edge_count(end); ++k) {
      Edge e = f_.edge(end, k);
      std::string text = f_.op(end) == Op::When ? (k == 0 ? "yes" : "no") : "";
      if (f_.op(end) == Op::Choose) text = way(end, k);
      if (f_.weight(e) != Function::no_weight)
        text += fmt::format("{}{} times", text.empty() ? "" : ", ", f_.weight(e));
      std::string arguments;
      for (size_t a = 0; a < f_.argument_count(e); ++a)
        arguments += (a ? ", " : "") + value_text(module_, f_, f_.argument(e, a));
      if (!arguments.empty()) text += (text.empty() ? "(" : " (") + arguments + ")";
      bool back = dominators_.dominates(f_.to(e), b);
      line("b{} -> b{} [label=< {} >{}]", b.index, f_.to(e).index, as_markup(cut(text)),
           back ? ", penwidth=2.2, color=\"#a86b00\", fontcolor=\"#a86b00\"" : "");
    }
  }

  std::string way(Instruction choose, size_t k) const {
    if (k + 1 == f_.edge_count(choose)) return "else";
    Bits n = f_.case_value(choose, k);
    uint64_t words[2] = {static_cast<uint64_t>(n), static_cast<uint64_t>(n >> 64)};
    Type t = f_.type(f_.operand(choose, 0));
    return text::literal_text({words, t.words()}, t);
  }

  const Module& module_;
  Symbol symbol_;
  const Function& f_;
  Dominators dominators_;
  Loops loops_;
  Frequencies frequencies_;
  std::string out_;
};

}  // namespace

std::string render_graph(const Module& module, Symbol function) {
  return GraphWriter(module, function).run();
}

}  // namespace porphyry
