#include "porphyry/analyze/verify.h"

#include <algorithm>

#include "porphyry/analyze/dominators.h"
#include "porphyry/ir/typing.h"
#include "porphyry/text/writer.h"

namespace porphyry {
namespace {

class Verifier {
 public:
  Verifier(const Module& module, Symbol symbol, const Origin& origin)
      : module_(module), symbol_(symbol), f_(module.function(symbol)), origin_(origin) {}

  Diagnostics run() {
    if (!f_.entry().exists()) {
      complain_function("the function has no block", "an entry block");
      return std::move(out_);
    }
    if (!f_.parameters(f_.entry()).empty())
      complain(f_.entry(), "the first block has parameters", "a function's parameters instead");
    if (f_.first_in(f_.entry()).exists())
      complain(f_.entry(), "something goes to the first block", "another block to go to");
    bool whole = true;
    for (Block b = f_.entry(); b.exists(); b = f_.next(b)) whole &= block(b);
    if (whole) dominance();
    return std::move(out_);
  }

 private:
  bool block(Block b) {
    Instruction last = f_.terminator(b);
    if (!last.exists()) {
      complain(b, "the block does not end", "return, go, when or trap as its last line");
      return false;
    }
    for (Instruction i = f_.first(b); i.exists(); i = f_.next(i)) {
      if (i != last && info(f_.op(i)).ends_block())
        complain(i, "the block goes on behind its end", "a block of its own for what follows");
      types(i);
      targets(i);
    }
    return true;
  }

  void types(Instruction i) {
    std::vector<Type> operands;
    for (size_t k = 0; k < f_.operand_count(i); ++k) {
      if (!f_.operand(i, k).exists()) return complain(i, "an operand is missing", "a value");
      operands.push_back(f_.type(f_.operand(i, k)));
    }
    if (f_.op(i) == Op::Call) return call(i, operands);
    if (f_.op(i) == Op::Return)
      return listed_types(i, operands, f_.signature().results, "returns", f_.signature());
    std::optional<Type> result;
    if (f_.result_count(i)) result = f_.type(f_.result(i));
    if (auto problem = typing_problem(f_.op(i), operands, result))
      complain(i, problem->message, problem->expected);
  }

  void call(Instruction i, const std::vector<Type>& operands) {
    Symbol callee = f_.symbol(i);
    const Signature* signature = callee.index < module_.symbol_count() ? module_.signature(callee) : nullptr;
    if (!signature)
      return complain(i, "the call names nothing that can be called", "a function of the module");
    listed_types(i, operands, signature->parameters, "passes", *signature);
    std::vector<Type> results;
    for (size_t k = 0; k < f_.result_count(i); ++k) results.push_back(f_.type(f_.result(i, k)));
    if (results != signature->results)
      complain(i, "the call's results are not those of the function", signature->text());
  }

  void listed_types(Instruction i, const std::vector<Type>& is, const std::vector<Type>& should,
                    const char* verb, const Signature& signature) {
    if (is == should) return;
    Signature found{is, {}};
    complain(i, std::string("this ") + verb + " " + found.text(),
             (std::string(verb) == "returns" ? "the results of " : "the parameters of ") + signature.text());
  }

  void targets(Instruction i) {
    for (Edge e : f_.edges(i)) {
      auto parameters = f_.parameters(f_.to(e));
      std::string name = "'" + block_text(module_, f_, f_.to(e)) + "'";
      if (!f_.alive(f_.to(e))) {
        complain(i, "this goes to a block that was erased", "a block of this function");
      } else if (parameters.size() != f_.argument_count(e)) {
        complain(i, name + " is given " + std::to_string(f_.argument_count(e)) + " arguments",
                 std::to_string(parameters.size()) + ", one for each of its parameters");
      } else {
        for (size_t k = 0; k < parameters.size(); ++k)
          if (f_.type(f_.argument(e, k)) != f_.type(parameters[k]))
            complain(i,
                     "argument " + std::to_string(k + 1) + " of " + name + " is " +
                         f_.type(f_.argument(e, k)).name(),
                     f_.type(parameters[k]).name());
      }
    }
  }

  void dominance() {
    Dominators dominators(f_);
    for (Block b : dominators.order()) {
      for (Instruction i = f_.first(b); i.exists(); i = f_.next(i)) {
        for (size_t k = 0; k < f_.operand_count(i); ++k) available(dominators, f_.operand(i, k), i);
        for (Edge e : f_.edges(i))
          for (size_t k = 0; k < f_.argument_count(e); ++k) available(dominators, f_.argument(e, k), i);
      }
    }
  }

  void available(const Dominators& dominators, Value v, Instruction user) {
    if (dominators.available(f_, v, user)) return;
    complain(user, "'" + value_text(module_, f_, v) + "' is not defined on every way to this line",
             "a definition that dominates its use, or a block parameter where ways join");
  }

  // ---- where ----------------------------------------------------------------------------------------------

  void complain(Instruction i, std::string message, std::string expected) {
    if (origin_.places) {
      auto place = origin_.places->bodies[symbol_.index].instructions.get(i);
      if (place.length) return add(place, std::move(message), std::move(expected));
    }
    excerpt(write_text(module_, f_, i), std::move(message), std::move(expected));
  }
  void complain(Block b, std::string message, std::string expected) {
    if (origin_.places) {
      auto place = origin_.places->bodies[symbol_.index].blocks.get(b);
      if (place.length) return add(place, std::move(message), std::move(expected));
    }
    excerpt(block_text(module_, f_, b) + ":", std::move(message), std::move(expected));
  }
  void complain_function(std::string message, std::string expected) {
    if (origin_.places)
      return add(origin_.places->bodies[symbol_.index].header, std::move(message), std::move(expected));
    excerpt("func " + std::string(module_.symbol_name(symbol_)), std::move(message), std::move(expected));
  }
  void add(TextMap::Place place, std::string message, std::string expected) {
    out_.push_back(origin_.source->at(place.offset, place.length, std::move(message), std::move(expected)));
  }
  void excerpt(std::string text, std::string message, std::string expected) {
    Diagnostic d = complaint("in '" + std::string(module_.symbol_name(symbol_)) + "': " + std::move(message),
                             std::move(expected));
    d.length = static_cast<uint32_t>(text.size());
    d.excerpt = std::move(text);
    out_.push_back(std::move(d));
  }

  const Module& module_;
  Symbol symbol_;
  const Function& f_;
  Origin origin_;
  Diagnostics out_;
};

}  // namespace

Diagnostics verify(const Module& module, Symbol function, const Origin& origin) {
  return Verifier(module, function, origin).run();
}

Diagnostics verify(const Module& module, const Origin& origin) {
  Diagnostics out;
  for (size_t k = 0; k < module.symbol_count(); ++k) {
    if (!module.is_function(Symbol(k))) continue;
    if (origin.places && !origin.places->bodies[k].is_complete) continue;  // its gaps would mislead
    Diagnostics found = verify(module, Symbol(k), origin);
    out.insert(out.end(), std::make_move_iterator(found.begin()), std::make_move_iterator(found.end()));
  }
  return out;
}

Result<std::unique_ptr<Module>> load_text(Realm& realm, const SourceText& source) {
  ReadModule read = read_text(realm, source);
  Diagnostics found = verify(*read.module, {&source, &read.places});
  if (read.problems.empty() && found.empty()) return std::move(read.module);
  for (Diagnostic& d : found) read.problems.push_back(std::move(d));
  std::stable_sort(read.problems.begin(), read.problems.end(), [](const Diagnostic& a, const Diagnostic& b) {
    return std::pair(a.line, a.column) < std::pair(b.line, b.column);
  });
  return std::move(read.problems);
}

}  // namespace porphyry
