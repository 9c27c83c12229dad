#include "porphyry/ask/views.h"

#include <fmt/format.h>

#include <algorithm>
#include <map>

#include "porphyry/analyze/alias.h"
#include "porphyry/analyze/frequency.h"
#include "porphyry/analyze/post_dominators.h"
#include "porphyry/analyze/regions.h"
#include "porphyry/print/print.h"

namespace porphyry {
namespace {

std::string times(float n) { return n == 1 ? "once" : fmt::format("{:.3g} times", n); }

// Blocks that can be reached, as nodes.
class BlockNodes {
 public:
  BlockNodes(const Module& module, Symbol symbol, Drawing& out)
      : module(module),
        f(module.function(symbol)),
        dominators(f),
        loops(f, dominators),
        frequencies(f, dominators, loops),
        out_(out) {
    out.title = fmt::format(" of {}", module.symbol_name(symbol));
  }
  size_t add(Block b, size_t inside = Drawing::none) {
    const size_t n = out_.add_node(
        name(b),
        {fmt::format("{}, {}", counted(f.instructions(b).count(), "instruction"), times(frequencies.of(b)))},
        inside);
    out_.nodes[n].shade = std::min(loops.depth(b), 3u);
    nodes_.set(b, static_cast<uint32_t>(n + 1));
    return n;
  }
  size_t of(Block b) const { return nodes_.get(b) - 1u; }
  std::string name(Block b) const { return block_text(module, f, b); }
  // The ways between them, those back to a head strong.
  void add_ways() {
    for (Block b : dominators.order()) {
      const Instruction end = f.terminator(b);
      size_t k = 0;
      for (Edge e : f.edges(b)) {
        std::string label = f.op(end) == Op::When ? (k == 0 ? "yes" : "no") : "";
        out_.edges.push_back({of(b), of(f.to(e)), label, dominators.dominates(f.to(e), b)});
        ++k;
      }
    }
  }

  const Module& module;
  const Function& f;
  Dominators dominators;
  Loops loops;
  Frequencies frequencies;

 private:
  Drawing& out_;
  SideTable<Block, uint32_t> nodes_;
};

Drawing loops_of(const Module& module, Symbol s, const Notes&) {
  Drawing out;
  BlockNodes blocks(module, s, out);
  out.title = "loops" + out.title;
  std::map<uint32_t, size_t> boxes;  // by header
  for (Block b : blocks.dominators.order()) {
    const Block header = blocks.loops.header(b);
    if (header == b) {
      const Block outer = blocks.loops.outer(b);
      boxes[b.index] =
          out.add_box(fmt::format("loop of {}, {:.3g} rounds", blocks.name(b), blocks.frequencies.of(b)),
                      outer.exists() ? boxes.at(outer.index) : Drawing::none);
    }
    blocks.add(b, header.exists() ? boxes.at(header.index) : Drawing::none);
  }
  blocks.add_ways();
  return out;
}

Drawing regions_of(const Module& module, Symbol s, const Notes&) {
  Drawing out;
  BlockNodes blocks(module, s, out);
  out.title = "regions" + out.title;
  const Regions regions(blocks.f);
  for (size_t k = 0; k < regions.count(); ++k) {
    const Region r(k), parent = regions.parent(r);
    out.add_box(fmt::format("{} to {}", blocks.name(blocks.f.to(regions.entry(r))),
                            blocks.name(blocks.f.from(regions.exit(r)))),
                parent.exists() ? parent.index : Drawing::none);
  }
  for (Block b : blocks.dominators.order()) {
    const Region r = regions.of(b);
    blocks.add(b, r.exists() ? r.index : Drawing::none);
  }
  blocks.add_ways();
  return out;
}

Drawing dominators_of(const Module& module, Symbol s, const Notes&) {
  Drawing out;
  BlockNodes blocks(module, s, out);
  out.title = "dominators" + out.title;
  for (Block b : blocks.dominators.order()) {
    blocks.add(b);
    if (Block above = blocks.dominators.immediate(b); above.exists())
      out.edges.push_back({blocks.of(above), blocks.of(b), "", false, false});
  }
  return out;
}

Drawing control_of(const Module& module, Symbol s, const Notes&) {
  Drawing out;
  BlockNodes blocks(module, s, out);
  out.title = "control dependence" + out.title;
  const PostDominators post(blocks.f);
  const ControlDependence control(blocks.f, post);
  for (Block b : blocks.dominators.order()) blocks.add(b);
  for (Block b : blocks.dominators.order())
    for (Edge e : control.of(b)) {
      const Block from = blocks.f.from(e);
      const Instruction end = blocks.f.terminator(from);
      const bool yes = blocks.f.op(end) == Op::When && blocks.f.edge(end, 0) == e;
      out.edges.push_back({blocks.of(from), blocks.of(b),
                           blocks.f.op(end) == Op::When ? (yes ? "yes" : "no") : "", from == b, false});
    }
  return out;
}

// ---- kinds ------------------------------------------------------------------------------------------------

struct KnownAccess {
  Symbol function;
  Instruction at;
  MemoryAccess what;
};

std::string access_text(const Module& module, const KnownAccess& a) {
  return fmt::format("{}: {}", module.symbol_name(a.function),
                     write_text(module, module.function(a.function), a.at));
}

std::string_view relation_text(Overlap o) {
  return o == Overlap::Never ? "never" : o == Overlap::Same ? "the same bytes" : "maybe";
}

// Of the pairs of accesses in one function: whether they may touch common bytes, and why.
void pairs_of(const Module& module, Symbol s, const std::vector<KnownAccess>& accesses, Drawing& out) {
  constexpr size_t most = 400;  // rows
  const Alias alias(module, module.function(s), module[s].facts);
  for (size_t a = 0; a < accesses.size(); ++a)
    for (size_t b = a + 1; b < accesses.size() && out.table.size() < most; ++b) {
      if (accesses[a].function != s || accesses[b].function != s) continue;
      const AliasAnswer answer = alias.of(accesses[a].what, accesses[b].what);
      out.table.push_back({access_text(module, accesses[a]),
                           write_text(module, module.function(s), accesses[b].at),
                           std::string(relation_text(answer.relation)), answer.why});
    }
}

Drawing kinds_of(const Module& module, Symbol, const Notes&) {
  Drawing out{.title = fmt::format("kinds of {}", module.text(module.name()))};
  const Kinds& kinds = module.kinds;
  std::vector<size_t> nodes;
  std::vector<size_t> trees;
  for (size_t t = 0; t < kinds.tree_count(); ++t)
    trees.push_back(out.add_box("tree " + std::string(module.text(kinds.name(KindTree(t))))));
  for (size_t k = 0; k < kinds.kind_count(); ++k)
    nodes.push_back(
        out.add_node(std::string(module.text(kinds[Kind(k)].name)), {}, trees[kinds[Kind(k)].tree.index]));
  for (size_t k = 0; k < kinds.kind_count(); ++k)
    if (Kind above = kinds[Kind(k)].parent; above.exists())
      out.edges.push_back({nodes[above.index], nodes[k], ""});
  out.table.push_back({"one access", "the other", "may overlap", "why"});
  for (Symbol s : module.functions()) {
    const Function& f = module.function(s);
    const Alias alias(module, f, module[s].facts);
    std::vector<KnownAccess> accesses;
    for (Block b : f.blocks())
      for (Instruction i : f.instructions(b)) {
        const Op op = f.op(i);
        if (op != Op::Load && op != Op::Store && op != Op::Fill && op != Op::Copy) continue;
        accesses.push_back({s, i, alias.access(i)});
        if (const KindPath p = accesses.back().what.kind; p.exists())
          out.nodes[nodes[kinds[p].kind.index]].lines.push_back(access_text(module, accesses.back()) + "  " +
                                                                path_text(module, p));
      }
    pairs_of(module, s, accesses, out);
  }
  return out;
}

// ---- calls ------------------------------------------------------------------------------------------------

// How many calls of each function stand in each other one, and how many were inlined there.
Drawing calls_of(const Module& module, Symbol, const Notes& notes) {
  Drawing out{.title = fmt::format("calls of {}", module.text(module.name()))};
  std::map<std::string, size_t> nodes;
  auto node = [&](const std::string& name, std::vector<std::string> lines) {
    auto [at, is_new] = nodes.try_emplace(name, 0);
    if (is_new) at->second = out.add_node(name, std::move(lines));
    return at->second;
  };
  for (Symbol s : module.functions()) {
    size_t instructions = 0;
    for (Block b : module.function(s).blocks()) instructions += module.function(s).instructions(b).count();
    const size_t n = node(
        std::string(module.symbol_name(s)),
        {fmt::format("{}{}", counted(instructions, "instruction"), module[s].is_local ? ", local" : "")});
    out.nodes[n].shade = module[s].is_local ? 1 : 0;
  }
  std::map<std::pair<size_t, size_t>, std::pair<size_t, size_t>> counts;  // calls, inlined
  size_t through = 0;
  for (Symbol s : module.functions()) {
    const Function& f = module.function(s);
    for (Block b : f.blocks())
      for (Instruction i : f.instructions(b)) {
        through += info(f.op(i)).layout == Layout::CallThrough;
        if (info(f.op(i)).layout == Layout::Call)
          ++counts[{nodes.at(std::string(module.symbol_name(s))),
                    node(std::string(module.symbol_name(f.symbol(i))), {"outside"})}]
                .first;
      }
  }
  for (const Note& n : notes) {
    if (n.pass != "inline" || n.kind != Note::Kind::Done) continue;
    const size_t open = n.what.find('\''), close = n.what.rfind('\'');
    if (open == n.what.npos || close <= open || !n.what.starts_with("the call of")) continue;
    ++counts[{node(n.function, {"gone"}), node(n.what.substr(open + 1, close - open - 1), {"gone"})}].second;
  }
  for (const auto& [ends, count] : counts) {
    std::string label = count.first ? counted(count.first, "call") : "";
    if (count.second) label += (label.empty() ? "" : ", ") + fmt::format("{} inlined", count.second);
    out.edges.push_back({ends.first, ends.second, label, false, count.first == 0});
  }
  if (through) out.table = {{fmt::format("{} through pointers are not drawn", counted(through, "call"))}};
  return out;
}

constexpr View views[] = {
    {"loops", "loops as boxes in boxes", false, loops_of},
    {"regions", "regions with one way in and one way out, as boxes in boxes", false, regions_of},
    {"dominators", "which blocks every way to a block passes", false, dominators_of},
    {"control", "which branches decide whether a block runs", false, control_of},
    {"kinds", "the kinds of memory, what accesses them, and which pairs may overlap", true, kinds_of},
    {"calls", "who calls whom, and what was inlined", true, calls_of}};

}  // namespace

std::span<const View> all_views() { return views; }

const View* view_named(std::string_view name) {
  for (const View& v : views)
    if (v.name == name) return &v;
  return nullptr;
}

}  // namespace porphyry
