// trim: of local functions whose calls are all seen, parameters go that nothing uses, or that get the same
// constant from every call, which takes their place; and results that no call uses, or that are the same
// constant at every return. Arguments that nothing else wants go with them. O(instructions).
#include <fmt/format.h>

#include "porphyry/analyze/call_sites.h"
#include "porphyry/optimize/pass.h"
#include "porphyry/print/print.h"
#include "registers.h"

namespace porphyry {
namespace {

// What comes to one place from everywhere: nothing yet, one constant, or different things.
class Common {
 public:
  void see(const Function& f, Value v) {
    if (differs_) return;
    if (!f.is_constant(v)) return void(differs_ = true);
    std::vector<uint64_t> words(f.constant_words(v).begin(), f.constant_words(v).end());
    if (seen_ && words != words_) return void(differs_ = true);
    seen_ = true, words_ = std::move(words);
  }
  void anything() { differs_ = true; }
  bool is_constant() const { return seen_ && !differs_; }
  Value in(Function& f, Type t) const { return f.constant_lanes(t, words_); }

 private:
  bool seen_ = false, differs_ = false;
  std::vector<uint64_t> words_;
};

struct Shape {  // of a function that may be trimmed
  bool is_free = false;
  bool hands_on = false;  // a call in its place may want the room on the stack that its own parameters took
  std::vector<Common> arguments, results;
  std::vector<bool> result_used;
  std::vector<bool> keeps_parameter, keeps_result;
  bool changes = false;
};

class Trimmer {
 public:
  explicit Trimmer(ModuleContext& c) : c_(c), module_(c.module), shapes_(c.module.symbol_count()) {}

  void run() {
    CallSites sites(module_);
    for (Symbol s : module_.functions()) {
      const Function& f = module_.function(s);
      if (!sites.all_seen(module_, s) || sites.calls_of(s) == 0 || !f.entry().exists()) continue;
      Shape& shape = shapes_[s.index];
      shape.is_free = true;
      shape.arguments.resize(f.signature().parameters.size());
      shape.results.resize(f.signature().results.size());
      shape.result_used.resize(shape.results.size());
    }
    for (Symbol s : module_.functions()) look(s);
    for (Symbol s : module_.functions()) decide(s);
    for (Symbol s : module_.functions()) rewrite_inside(s);
    for (Symbol s : module_.functions())
      if (shapes_[s.index].changes) rewrite_signature(s);
  }

 private:
  bool calls_by_name(const Function& f, Instruction i) const {
    return f.op(i) == Op::Call || f.op(i) == Op::ReturnCall;
  }
  Shape* shape_of_callee(const Function& f, Instruction i) {
    if (!calls_by_name(f, i)) return nullptr;
    Shape& shape = shapes_[f.symbol(i).index];
    return shape.is_free ? &shape : nullptr;
  }

  void look(Symbol s) {
    const Function& f = module_.function(s);
    Shape& own = shapes_[s.index];
    for (Block b : f.blocks())
      for (Instruction i : f.instructions(b)) {
        if (own.is_free && f.op(i) == Op::Return)
          for (size_t k = 0; k < own.results.size(); ++k) own.results[k].see(f, f.operand(i, k));
        // What another one returns in its place is not known here, and wanted there.
        bool hands_over = f.op(i) == Op::ReturnCall || f.op(i) == Op::ReturnCallThrough;
        if (own.is_free && hands_over) {
          for (size_t k = 0; k < own.results.size(); ++k)
            own.results[k].anything(), own.result_used[k] = true;
          own.hands_on |=
              !(f.op(i) == Op::ReturnCall && f.symbol(i) == s) && !fits_registers(operand_types(f, i));
        }
        Shape* called = shape_of_callee(f, i);
        if (!called) continue;
        for (size_t k = 0; k < called->arguments.size(); ++k)
          if (!passes_on(s, f, i, k)) called->arguments[k].see(f, f.operand(i, k));
        for (size_t k = 0; hands_over && k < called->results.size(); ++k) called->results[k].anything();
        for (size_t k = 0; k < called->results.size(); ++k)
          if (hands_over || wanted(s, f, i, k)) called->result_used[k] = true;
      }
  }
  static std::vector<Type> operand_types(const Function& f, Instruction i) {
    std::vector<Type> out;
    for (Value v : f.operands(i)) out.push_back(f.type(v));
    return out;
  }
  // A function's call of itself with the parameter it was given.
  static bool passes_on(Symbol s, const Function& f, Instruction call, size_t k) {
    return f.symbol(call) == s && f.operand(call, k) == f.parameters()[k];
  }

  // Whether a call's result is used, other than by the function's returning it as its own.
  static bool wanted(Symbol s, const Function& f, Instruction call, size_t k) {
    for (Slot u : f.uses(f.result(call, k))) {
      auto use = f.use(u);
      bool onward = f.symbol(call) == s && !use.edge.exists() && f.op(use.user) == Op::Return &&
                    u == f.operand_slot(use.user, k);
      if (!onward) return true;
    }
    return false;
  }

  void decide(Symbol s) {
    Shape& shape = shapes_[s.index];
    if (!shape.is_free) return;
    const Function& f = module_.function(s);
    for (size_t k = 0; k < shape.arguments.size(); ++k) {
      bool used = false;
      for (Slot u : f.uses(f.parameters()[k])) {
        auto use = f.use(u);
        bool onward = !use.edge.exists() && calls_by_name(f, use.user) && passes_on(s, f, use.user, k) &&
                      u == f.operand_slot(use.user, k);
        used |= !onward;
      }
      bool fixed = shape.arguments[k].is_constant() && !(module_[s].facts.marks_of(k) & mark::sole);
      const bool kept = (used && !fixed) || shape.hands_on;
      shape.keeps_parameter.push_back(kept);
      tell(s, kept, fmt::format("parameter {}", k + 1),
           used ? "every call gives it the same constant" : "nothing uses it");
    }
    for (size_t k = 0; k < shape.results.size(); ++k) {
      bool fixed = shape.results[k].is_constant();
      shape.keeps_result.push_back(shape.result_used[k] && !fixed);
      tell(s, shape.keeps_result.back(), fmt::format("result {}", k + 1),
           shape.result_used[k] ? "it is always the same constant" : "no call uses it");
    }
    for (bool kept : shape.keeps_parameter) shape.changes |= !kept;
    for (bool kept : shape.keeps_result) shape.changes |= !kept;
  }
  void tell(Symbol s, bool kept, const std::string& what, const char* why) {
    if (kept || !c_.notes) return;
    c_.notes->push_back({.kind = Note::Kind::Done,
                         .pass = std::string(c_.pass),
                         .function = std::string(module_.symbol_name(s)),
                         .what = what + " is gone",
                         .why = why});
  }

  // Calls of what is trimmed, and the function's own returns.
  void rewrite_inside(Symbol s) {
    Function& f = module_.function(s);
    const Shape& own = shapes_[s.index];
    for (Block b : f.blocks())
      for (Instruction i = f.first(b), next; i.exists(); i = next) {
        next = f.next(i);
        Shape* called = shape_of_callee(f, i);
        if (called && called->changes) rewrite_call(f, i, *called);
        if (own.changes && f.op(i) == Op::Return) rewrite(f, i, kept(f, i, own.keeps_result), {});
      }
  }
  static std::vector<Value> kept(const Function& f, Instruction i, const std::vector<bool>& keeps) {
    std::vector<Value> out;
    for (size_t k = 0; k < f.operand_count(i); ++k)
      if (k >= keeps.size() || keeps[k]) out.push_back(f.operand(i, k));
    return out;
  }
  void rewrite_call(Function& f, Instruction i, const Shape& called) {
    std::vector<Type> types;
    std::vector<Value> old;
    for (size_t k = 0; k < f.result_count(i); ++k) {
      Value v = f.result(i, k);
      if (called.keeps_result[k])
        types.push_back(f.type(v)), old.push_back(v);
      else if (f.has_uses(v))
        // Where it is not always the same, only returns name it that will not.
        f.replace_uses(v, called.results[k].is_constant() ? called.results[k].in(f, f.type(v))
                                                          : f.constant(f.type(v), 0));
    }
    rewrite(f, i, kept(f, i, called.keeps_parameter), types, old);
  }
  static void rewrite(Function& f, Instruction i, const std::vector<Value>& operands,
                      const std::vector<Type>& types, const std::vector<Value>& old = {}) {
    std::vector<Value> before;
    for (Value v : f.operands(i)) before.push_back(v);
    Op op = f.op(i);
    Function::Draft draft{.op = op,
                          .operands = operands,
                          .results = types,
                          .detail = f.detail(i),
                          .position = f.position(i),
                          .promises = f.promises(i),
                          .permits = f.permits(i)};
    Instruction made;
    if (info(op).ends_block()) {
      Block b = f.block(i);
      f.erase(i);
      f.append(b, draft);
    } else {
      made = f.insert_before(i, draft);
      for (size_t k = 0; k < old.size(); ++k) {
        if (Name n = f.name(old[k]); n.exists()) f.set_name(old[k], {}), f.set_name(f.result(made, k), n);
        f.replace_uses(old[k], f.result(made, k));
      }
      f.erase(i);
    }
    for (Value v : before) erase_unused(f, v);
  }
  // What made it, when nothing else wants that.
  static void erase_unused(Function& f, Value v) {
    std::vector<Value> work{v};
    while (!work.empty()) {
      Value next = work.back();
      work.pop_back();
      Instruction d = f.definition(next);
      if (!d.exists() || !f.alive(d) || f.has_effect(d) || info(f.op(d)).calls() || f.op(d) == Op::Reserve)
        continue;
      bool used = false;
      for (Value r : f.results(d)) used |= f.has_uses(r);
      if (used) continue;
      for (Value o : f.operands(d)) work.push_back(o);
      f.erase(d);
    }
  }

  void rewrite_signature(Symbol s) {
    Function& f = module_.function(s);
    const Shape& shape = shapes_[s.index];
    Signature signature;
    FunctionFacts& facts = module_[s].facts;
    std::vector<Value> old;
    std::vector<uint8_t> marks;
    for (size_t k = 0; k < shape.arguments.size(); ++k) {
      Value v = f.parameters()[k];
      if (shape.keeps_parameter[k]) {
        signature.parameters.push_back(f.type(v)), old.push_back(v), marks.push_back(facts.marks_of(k));
        continue;
      }
      if (f.has_uses(v)) f.replace_uses(v, shape.arguments[k].in(f, f.type(v)));
      f.set_name(v, {});
    }
    for (size_t k = 0; k < shape.results.size(); ++k)
      if (shape.keeps_result[k]) signature.results.push_back(f.signature().results[k]);
    f.change_signature(std::move(signature));
    facts.marks.clear();
    for (size_t k = 0; k < old.size(); ++k) {
      Value now = f.parameters()[k];
      if (Name n = f.name(old[k]); n.exists()) f.set_name(old[k], {}), f.set_name(now, n);
      f.replace_uses(old[k], now);
      facts.set_marks(k, marks[k]);
    }
    c_.changed = true;
  }

  ModuleContext& c_;
  Module& module_;
  std::vector<Shape> shapes_;
};

}  // namespace

void trim(ModuleContext& c) { Trimmer(c).run(); }

}  // namespace porphyry
