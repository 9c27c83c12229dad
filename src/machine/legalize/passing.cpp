// Parameters, arguments and results as the convention passes them: see include/porphyry/machine/passing.h.
#include "porphyry/machine/passing.h"

#include <fmt/format.h>

#include "porphyry/print/print.h"
#include "porter.h"
#include "state.h"

namespace porphyry::machine {
namespace {

class SignatureStep {
 public:
  SignatureStep(const Legalization& context, Symbol symbol)
      : context_(context),
        f_(context.module.function(symbol)),
        mine_(way_of(context.source_signatures[symbol.index])),
        pen_(context.module, f_),
        porter_(pen_, context.target.convention) {}

  void run() {
    for (Block b : f_.blocks())
      for (Instruction i = f_.first(b), next; i.exists(); i = next) {
        next = f_.next(i);
        visit(i);
      }
    if (!mine_.same) parameters();
  }

 private:
  void visit(Instruction i) {
    pen_.before(i).from(f_.position(i));
    switch (f_.op(i)) {
      case Op::Return:
        if (!mine_.same) return_values(i);
        return;
      case Op::Call: return call(i, callee_signature(i), 0);
      case Op::CallThrough: return call(i, signature_of_operands(i, 1), 1);
      case Op::ReturnCall: return return_call(i, callee_signature(i), 0);
      case Op::ReturnCallThrough: return return_call(i, signature_of_operands(i, 1), 1);
      default: return;
    }
  }

  Passing way_of(const Signature& s) const {
    if (!passes_as_it_stands(context_.target.convention, s)) return passing(context_.target.convention, s);
    Passing as_it_stands;
    as_it_stands.same = true;
    return as_it_stands;
  }

  Signature callee_signature(Instruction i) const {
    const Signature& declared = context_.source_signatures[f_.symbol(i).index];
    if (!declared.variadic) return declared;
    Signature s = signature_of_operands(i, 0);
    s.results = declared.results;
    s.variadic = true;
    return s;
  }
  Signature signature_of_operands(Instruction i, size_t first) const {
    Signature s;
    for (size_t k = first; k < f_.operand_count(i); ++k) s.parameters.push_back(f_.type(f_.operand(i, k)));
    for (Value v : f_.results(i)) s.results.push_back(f_.type(v));
    if (info(f_.op(i)).ends_block()) s.results = f_.signature().results;  // it changes last
    return s;
  }

  // The parts in the order of the signature of parts; `address` is where results go, when they go to memory.
  std::vector<Value> arguments(const Passing& way, Instruction i, size_t first, Value address) {
    std::vector<std::vector<Value>> parts;
    for (size_t k = first; k < f_.operand_count(i); ++k)
      parts.push_back(porter_.taken_apart(f_.operand(i, k), false));
    std::vector<Value> out;
    if (first) out.push_back(f_.operand(i, 0));
    for (size_t k = 0; k < way.parameters.size(); ++k) {
      PassedPart p = way.parameters[k];
      if (p.owner >= 0)
        out.push_back(parts[static_cast<size_t>(p.owner)][p.part]);
      else
        out.push_back(p.owner == PassedPart::results_address ? address
                                                             : pen_.number(way.legal.parameters[k], 0));
    }
    return out;
  }

  void call(Instruction i, const Signature& signature, size_t first) {
    Passing way = way_of(signature);
    if (way.same) return;
    Value address = way.through_memory ? frame_object(way.result_bytes) : Value();
    auto operands = arguments(way, i, first, address);
    Instruction made = pen_.put(
        {.op = f_.op(i), .operands = operands, .results = way.legal.results, .detail = f_.detail(i)});
    for (size_t k = 0; k < signature.results.size(); ++k) {
      Value old = f_.result(i, k);
      Value v = way.through_memory
                    ? pen_.load(f_.type(old), Address{.offset = static_cast<int64_t>(way.result_offsets[k])},
                                {&address, 1})
                    : porter_.put_together(f_.type(old), parts_of(way, made, k), true);
      pen_.put_in_place(old, v);
    }
    f_.erase(i);
  }

  std::vector<Value> parts_of(const Passing& way, Instruction call, size_t result) const {
    std::vector<Value> out;
    for (size_t k = 0; k < way.results.size(); ++k)
      if (way.results[k].owner == static_cast<int>(result)) out.push_back(f_.result(call, k));
    return out;
  }

  // Words on the stack go where this function's own came; see return_call_problems.
  void return_call(Instruction i, const Signature& signature, size_t first) {
    Passing way = way_of(signature);
    if (way.same) return;
    pen_.put(
        {.op = f_.op(i), .operands = arguments(way, i, first, results_address()), .detail = f_.detail(i)});
    f_.erase(i);
  }

  void return_values(Instruction i) {
    std::vector<Value> out;
    if (mine_.through_memory) {
      Value to = results_address();
      for (size_t k = 0; k < f_.operand_count(i); ++k)
        pen_.store(f_.operand(i, k), Address{.offset = static_cast<int64_t>(mine_.result_offsets[k])},
                   {&to, 1});
      out = {to};
    } else {
      for (size_t k = 0; k < f_.operand_count(i); ++k)
        for (Value v : porter_.taken_apart(f_.operand(i, k), true)) out.push_back(v);
    }
    pen_.put({.op = Op::Return, .operands = out});
    f_.erase(i);
  }

  // A stand-in for the parameter, which is there once the signature has changed.
  Value results_address() {
    if (mine_.through_memory && !results_address_.exists()) {
      Type ptr = pen_.module().pointer_type();
      results_address_ = f_.result(f_.insert_before(
          f_.first(f_.entry()), {.op = Op::Reserve, .results = {&ptr, 1}, .detail = f_.add_reserve({8, 8})}));
    }
    return results_address_;
  }

  Value frame_object(uint64_t bytes) {
    Type ptr = pen_.module().pointer_type();
    return f_.result(
        f_.insert_before(f_.first(f_.entry()),
                         {.op = Op::Reserve, .results = {&ptr, 1}, .detail = f_.add_reserve({bytes, 16})}));
  }

  void parameters() {
    std::vector<Value> old(f_.parameters().begin(), f_.parameters().end());
    f_.change_signature(mine_.legal);
    auto arrived = f_.parameters();
    pen_.before(f_.first(f_.entry())).from({});
    std::vector<std::vector<Value>> parts(old.size());
    for (size_t k = 0; k < arrived.size(); ++k) {
      PassedPart p = mine_.parameters[k];
      if (p.owner == PassedPart::results_address && results_address_.exists()) {
        f_.replace_uses(results_address_, arrived[k]);
        f_.erase(f_.definition(results_address_));
        pen_.before(f_.first(f_.entry()));
      }
      if (p.owner >= 0) parts[static_cast<size_t>(p.owner)].push_back(arrived[k]);
    }
    for (size_t k = 0; k < old.size(); ++k) {
      Name n = f_.name(old[k]);
      if (parts[k].size() == 1 && n.exists()) f_.set_name(old[k], {}), f_.set_name(parts[k][0], n);
      if (!f_.has_uses(old[k])) continue;
      f_.replace_uses(old[k], porter_.put_together(f_.type(old[k]), parts[k], false));
    }
  }

  const Legalization& context_;
  Function& f_;
  Passing mine_;
  FoldingPen pen_;
  Porter porter_;
  Value results_address_;
};

}  // namespace

namespace {

uint64_t stack_bytes(const Convention& convention, const Signature& s) {
  return passes_as_it_stands(convention, s) ? 0 : passing(convention, s).stack_bytes;
}

}  // namespace

Diagnostics return_call_problems(const Module& module, const Target& target) {
  Diagnostics out;
  for (Symbol s : module.functions()) {
    const Function& f = module.function(s);
    for (Block b : f.blocks()) {
      if (f.edges(b).size() > 0) continue;
      Instruction i = f.last(b);
      bool through = f.op(i) == Op::ReturnCallThrough;
      if (f.op(i) != Op::ReturnCall && !through) continue;
      Signature passed{{}, f.signature().results};
      for (size_t o = through; o < f.operand_count(i); ++o)
        passed.parameters.push_back(f.type(f.operand(i, o)));
      uint64_t wanted = stack_bytes(target.convention, passed),
               there = stack_bytes(target.convention, f.signature());
      if (wanted <= there) continue;
      Diagnostic d = complaint(
          fmt::format(
              "in '{}': a return call passes {} bytes on the stack, where the function itself was passed {}",
              module.symbol_name(s), wanted, there),
          "arguments that fit into the registers and the stack that the caller has filled, or a plain call");
      d.excerpt = write_text(module, f, i);
      d.length = static_cast<uint32_t>(d.excerpt.size());
      out.push_back(std::move(d));
    }
  }
  return out;
}

namespace legal {
void passing(FunctionContext& c) {
  note_signatures(state(c));
  SignatureStep(state(c), c.symbol).run();
}
}  // namespace legal

}  // namespace porphyry::machine
