#include "porphyry/ask/slice.h"

#include <fmt/format.h>

#include <algorithm>

#include "porphyry/print/function_texts.h"
#include "porphyry/print/print.h"

namespace porphyry {
namespace {

using Node = Dependences::Node;

class Slicer {
 public:
  Slicer(const Module& module, Symbol symbol)
      : module_(module),
        f_(module.function(symbol)),
        effects_(module),
        all_(module, symbol, effects_),
        texts_(module, f_) {}

  Result<Slice> run(std::string_view value, SliceWay way) {
    const Value start = named(value);
    if (!start.exists()) return unknown(value);
    if (way == SliceWay::Forward) turn_around();
    Slice out{.value = std::string(value), .way = way};
    out.in.resize(all_.node_limit());
    // What an instruction does and the values that it gives are one step.
    std::vector<std::vector<Node>> parts;
    auto reach = [&](Node n, Dependences::Why why, size_t from) {
      if (out.in[n.code]) return;
      if (n.is_memory()) {
        out.in[n.code] = 1;
        out.reaches_memory = true;
        return;
      }
      const Instruction i = n.is_value() ? f_.definition(n.value()) : n.instruction();
      std::vector<Node> mine = {n};
      if (i.exists() && way == SliceWay::Backward && n.is_value())
        mine.push_back(Dependences::instruction(i));
      if (i.exists() && way == SliceWay::Forward && !n.is_value())
        for (Value v : f_.results(i)) mine.push_back(Dependences::value(v));
      std::erase_if(mine, [&](Node m) { return out.in[m.code] != 0; });
      for (Node m : mine) out.in[m.code] = 1;
      out.steps.push_back(step(n, why, from));
      parts.push_back(std::move(mine));
    };
    reach(Dependences::value(start), Dependences::Why::Operand, 0);
    out.steps[0].why.clear();
    for (size_t k = 0; k < out.steps.size(); ++k)
      for (Node n : std::vector<Node>(parts[k]))
        for (const auto& link :
             way == SliceWay::Backward ? all_.of(n) : std::span<const Dependences::Link>(users_[n.code]))
          reach(link.on, link.why, k);
    for (Block b : f_.blocks()) out.instructions += f_.instructions(b).count();
    return out;
  }

 private:
  Value named(std::string_view value) const {
    for (size_t k = 0; k < f_.value_limit(); ++k) {
      const Value v(k);
      if (f_.is_constant(v) || texts_.value(v) != value) continue;
      const Instruction d = f_.definition(v);
      if (!d.exists() || f_.alive(d)) return v;
    }
    return {};
  }
  Diagnostic unknown(std::string_view value) const {
    std::vector<std::string> names;
    for (size_t k = 0; k < f_.value_limit(); ++k)
      if (!f_.is_constant(Value(k))) names.push_back(texts_.value(Value(k)));
    const std::string near = nearest(value, names);
    return complaint(fmt::format("there is no value '{}'", value),
                     near.empty() ? "a value of the function" : near);
  }
  void turn_around() {
    users_.resize(all_.node_limit());
    for (uint32_t code = 0; code < all_.node_limit(); ++code)
      for (const auto& link : all_.of({code})) users_[link.on.code].push_back({{code}, link.why});
  }
  SliceStep step(Node n, Dependences::Why why, size_t from) const {
    SliceStep out{.node = n, .why = std::string(why_text(why)), .from = from};
    Instruction i = n.is_value() ? f_.definition(n.value()) : n.instruction();
    Block b = i.exists() ? f_.block(i) : f_.defining_block(n.value());
    out.text = i.exists() ? texts_.instruction(i) : "parameter " + texts_.value(n.value());
    out.name = n.is_value()         ? texts_.value(n.value())
               : f_.result_count(i) ? texts_.value(f_.result(i))
                                    : std::string(info(f_.op(i)).name);
    if (i.exists()) out.position = place_text(module_, f_.position(i));
    out.block = b.exists() ? texts_.block(b) : "";
    return out;
  }

  const Module& module_;
  const Function& f_;
  CallEffects effects_;
  Dependences all_;
  FunctionTexts texts_;
  std::vector<std::vector<Dependences::Link>> users_;  // by code
};

}  // namespace

std::string_view why_text(Dependences::Why why) {
  static constexpr std::string_view texts[] = {"operand", "address", "argument of an edge",
                                               "decides", "memory",  "result"};
  return texts[static_cast<size_t>(why)];
}

bool Slice::holds(Node n) const { return n.code < in.size() && in[n.code]; }

Result<Slice> slice(const Module& module, Symbol function, std::string_view value, SliceWay way) {
  auto out = Slicer(module, function).run(value, way);
  if (out) out->function = module.symbol_name(function);
  return out;
}

Drawing drawing_of(const Slice& s) {
  Drawing out{.title =
                  fmt::format("{} of {}: {}", s.value, s.function,
                              s.way == SliceWay::Backward ? "what it depends on" : "what depends on it")};
  for (size_t k = 0; k < s.steps.size(); ++k) {
    const SliceStep& step = s.steps[k];
    out.add_node(step.text, step.position.empty() ? std::vector<std::string>{step.block}
                                                  : std::vector<std::string>{step.block, step.position});
    out.nodes.back().shade = k == 0 ? 3 : step.node.is_value() ? 0 : 1;
    const bool forward = s.way == SliceWay::Forward;
    if (k)
      out.edges.push_back(
          {forward ? step.from : k, forward ? k : step.from, step.why, false, step.why == "decides"});
  }
  return out;
}

}  // namespace porphyry
