#include "compile.h"

#include <map>

#include "porphyry/ir/pen.h"

namespace rules {
namespace {

using namespace porphyry;

const std::string truth = "yes or no";  // the unit of comparisons

class Compiler {
 public:
  Compiler(const Program& program, const SourceText& source, Module& module)
      : program_(program), source_(source), module_(module) {}

  Diagnostics run() {
    module_.sources.push_back({1, source_.name()});
    for (const Definition& d : program_.definitions) {
      if (known_.contains(d.name)) complain(d.place, "a second '" + d.name + "'", "another name");
      if (d.kind == Definition::Reading) readings_.push_back(&d);
      if (d.kind == Definition::Function) function(d);
      if (d.kind == Definition::Alarm) alarm(d);
      known_.emplace(d.name, &d);  // so a definition sees those above it only, and none itself
    }
    return std::move(problems_);
  }

 private:
  struct Typed {
    Value value;
    std::string unit;
  };

  void complain(Place place, std::string message, std::string expected) {
    problems_.push_back(source_.at(place.offset, place.length, std::move(message), std::move(expected)));
  }
  Position position(Place p) {
    auto at = source_.place(p.offset);
    return module_.add_position({1, at.line, at.column});
  }

  // ---- definitions
  // -------------------------------------------------------------------------------------------

  void begin(const std::string& name, Signature signature) {
    symbol_ = module_.add_function(name, std::move(signature));
    function_ = &module_.function(symbol_);
    pen_.emplace(module_, *function_);
    pen_->at_end(function_->add_block(module_.realm().name("enter")));
    names_.clear();
  }

  void function(const Definition& d) {
    if (module_.find(d.name).exists()) return;  // told of
    Signature s{std::vector<Type>(d.parameters.size(), Type::f32()), {Type::f32()}};
    begin(d.name, s);
    for (size_t k = 0; k < d.parameters.size(); ++k) {
      Value v = function_->parameters()[k];
      function_->set_name(v, module_.realm().name(d.parameters[k].name));
      names_[d.parameters[k].name] = {v, d.parameters[k].unit};
    }
    Typed result = node(*d.body);
    units_[d.name] = result.unit;
    pen_->from(position(d.place)).return_values({result.value});
  }

  void alarm(const Definition& d) {
    if (module_.find(d.name).exists()) return;
    Signature s{std::vector<Type>(readings_.size(), Type::pointer()), {Type::boolean()}};
    s.parameters.push_back(Type::integer(64));
    begin(d.name, s);
    for (size_t k = 0; k < readings_.size(); ++k)
      function_->set_name(function_->parameters()[k], module_.realm().name(readings_[k]->name));
    now_ = function_->parameters().back();
    function_->set_name(now_, module_.realm().name("now"));
    Typed result = node(*d.body);
    if (result.unit != truth) {
      complain(d.body->place, "an alarm rings or not, and this is " + shown(result.unit), "a comparison");
      result.value = pen_->truth(false);
    }
    pen_->from(position(d.place)).return_values({result.value});
  }

  static std::string shown(const std::string& unit) { return unit.empty() ? "a plain number" : unit; }

  // ---- nodes, from the leaves up
  // -----------------------------------------------------------------------------

  Typed node(const Node& n) {
    Typed out;
    switch (n.kind) {
      case NodeKind::Number: return {pen_->real(Type::f32(), n.number), n.unit};
      case NodeKind::Name: out = name(n); break;
      case NodeKind::Call: out = call(n); break;
      case NodeKind::Window: out = window(n); break;
      case NodeKind::Binary: out = binary(n); break;
      case NodeKind::Not: {
        Typed inside = node(*n.children[0]);
        if (inside.unit != truth)
          complain(n.place, "'not' turns yes or no around, and this is " + shown(inside.unit),
                   "a comparison");
        out = inside.unit == truth ? Typed{at(n).write(Op::Not, {inside.value}), truth}
                                   : Typed{pen_->truth(false), truth};
      }
    }
    return out;
  }
  Pen& at(const Node& n) { return pen_->from(position(n.place)); }

  Value nothing() { return pen_->real(Type::f32(), 0); }

  Typed name(const Node& n) {
    if (auto local = names_.find(n.text); local != names_.end()) return local->second;
    auto found = known_.find(n.text);
    if (found == known_.end()) {
      std::vector<std::string> near;
      for (auto& [text, d] : known_) near.push_back(text);
      std::string best = nearest(n.text, near);
      complain(n.place, "nothing is called '" + n.text + "' above",
               best.empty() ? "a reading, a threshold or an alarm" : "perhaps '" + best + "'");
      return {nothing(), ""};
    }
    const Definition& d = *found->second;
    if (d.kind == Definition::Let) return node(*d.body);
    bool in_alarm = module_[symbol_].function->signature().results[0].is_bool();
    if (d.kind == Definition::Function || !in_alarm) {
      complain(
          n.place, "'" + n.text + "' has no value here",
          d.kind == Definition::Function ? "its arguments in brackets" : "it as an argument of the function");
      return {nothing(), d.unit};
    }
    if (d.kind == Definition::Reading) return {at(n).load(Type::f32(), pointer(d), now_, 4), d.unit};
    std::vector<Value> arguments(function_->parameters().begin(), function_->parameters().end());
    Symbol callee = module_.find(d.name);
    if (module_.signature(callee)->parameters.size() != arguments.size()) {
      complain(n.place, "a reading stands between this alarm and '" + n.text + "'",
               "all readings above the alarms");
      return {pen_->truth(false), truth};
    }
    return {at(n).call(callee, arguments)[0], truth};
  }

  Value pointer(const Definition& reading) {
    for (size_t k = 0; k < readings_.size(); ++k)
      if (readings_[k] == &reading) return function_->parameters()[k];
    return {};
  }

  Typed call(const Node& n) {
    auto found = known_.find(n.text);
    std::vector<Value> arguments;
    const Definition* d =
        found == known_.end() || found->second->kind != Definition::Function ? nullptr : found->second;
    for (size_t k = 0; k < n.children.size(); ++k) {
      Typed t = node(*n.children[k]);
      arguments.push_back(t.value);
      if (d && k < d->parameters.size() && t.unit != d->parameters[k].unit)
        complain(n.children[k]->place,
                 "'" + d->parameters[k].name + "' is in " + shown(d->parameters[k].unit) + ", and this is " +
                     shown(t.unit),
                 shown(d->parameters[k].unit));
    }
    if (!d || arguments.size() != d->parameters.size() || problems_.size()) {
      if (!d) complain(n.place, "no function is called '" + n.text + "' above", "a function");
      if (d && arguments.size() != d->parameters.size())
        complain(n.place, "'" + n.text + "' is given " + std::to_string(arguments.size()) + " arguments",
                 std::to_string(d->parameters.size()));
      return {nothing(), d ? units_[n.text] : ""};
    }
    return {at(n).call(module_.find(n.text), arguments)[0], units_[n.text]};
  }

  Typed binary(const Node& n) {
    Typed a = node(*n.children[0]), b = node(*n.children[1]);
    bool logic = n.text == "and" || n.text == "or", compares = n.text == "<" || n.text == ">";
    bool factor = n.text == "*" || n.text == "/";
    bool fits = logic                                ? a.unit == truth && b.unit == truth
                : !factor                            ? a.unit == b.unit && a.unit != truth
                : a.unit == truth || b.unit == truth ? false
                : n.text == "*"                      ? a.unit.empty() || b.unit.empty()
                                                     : b.unit.empty() || a.unit == b.unit;
    if (!fits) {
      complain(n.place, "'" + n.text + "' of " + shown(a.unit) + " and " + shown(b.unit),
               logic    ? "comparisons"
               : factor ? "a plain number on one side, or a ratio of like units"
                        : "like units");
      return logic || compares ? Typed{pen_->truth(false), truth} : Typed{nothing(), ""};
    }
    static const std::map<std::string, Op> ops = {{"+", Op::Add},   {"-", Op::Sub}, {"*", Op::Mul},
                                                  {"/", Op::Div},   {"<", Op::Lt},  {">", Op::Gt},
                                                  {"and", Op::And}, {"or", Op::Or}};
    Value v = at(n).write(ops.at(n.text), {a.value, b.value});
    if (logic || compares) return {v, truth};
    if (n.text == "/" && a.unit == b.unit) return {v, ""};
    return {v, a.unit.empty() && n.text == "*" ? b.unit : a.unit};
  }

  // A loop over the last readings; at the start of the night over those that there are.
  Typed window(const Node& n) {
    auto found = known_.find(n.children[0]->text);
    bool in_alarm = module_[symbol_].function->signature().results[0].is_bool();
    if (found == known_.end() || found->second->kind != Definition::Reading || !in_alarm) {
      complain(n.children[0]->place, "'" + n.children[0]->text + "' is no reading here",
               "a reading, in an alarm");
      return {nothing(), ""};
    }
    const Definition& d = *found->second;
    Value series = pointer(d);
    Type i64 = Type::integer(64), f32 = Type::f32();
    int64_t back = static_cast<int64_t>(n.number / 10);
    Value start = at(n).write(Op::MaxS, {pen_->sub(now_, pen_->integer(i64, back)), pen_->integer(i64, 0)});
    Value first = pen_->load(f32, series, start, 4);
    if (n.text == "rise") return {pen_->sub(pen_->load(f32, series, now_, 4), first), d.unit};
    Block look = function_->add_block(), step = function_->add_block(), done = function_->add_block();
    Value i = function_->add_parameter(look, i64), so_far = function_->add_parameter(look, f32);
    pen_->go(look, {pen_->add(start, pen_->integer(i64, 1)), first});
    pen_->at_end(look).when(pen_->write(Op::LeS, {i, now_}), step, {}, done, {});
    pen_->at_end(step);
    Value t = pen_->load(f32, series, i, 4);
    Op op = n.text == "lowest" ? Op::Min : n.text == "highest" ? Op::Max : Op::Add;
    Value next = pen_->write(op, {so_far, t});
    pen_->go(look, {pen_->add(i, pen_->integer(i64, 1)), next});
    pen_->at_end(done);
    if (n.text != "mean") return {so_far, d.unit};
    Value count = pen_->add(pen_->sub(now_, start), pen_->integer(i64, 1));
    return {pen_->write(Op::Div, {so_far, pen_->convert(Op::ToFloatS, f32, count)}), d.unit};
  }

  const Program& program_;
  const SourceText& source_;
  Module& module_;
  Diagnostics problems_;
  std::map<std::string, const Definition*> known_;
  std::map<std::string, std::string> units_;  // of functions' results
  std::vector<const Definition*> readings_;
  std::map<std::string, Typed> names_;  // parameters of the function being compiled
  Symbol symbol_;
  Function* function_ = nullptr;
  std::optional<Pen> pen_;
  Value now_;
};

}  // namespace

Diagnostics compile(const Program& program, const SourceText& source, Module& module) {
  return Compiler(program, source, module).run();
}

}  // namespace rules
