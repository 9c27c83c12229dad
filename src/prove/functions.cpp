#include "porphyry/prove/functions.h"

#include <fmt/format.h>

#include <chrono>

#include "executor.h"
#include "porphyry/print/literals.h"

namespace porphyry {
namespace {

using namespace prove;

constexpr unsigned piece_bytes = 128;

class Prover {
 public:
  Prover(const Module& before, const Module& after, Symbol one, Symbol two, const ProofOptions& options)
      : before_(before), after_(after), one_(one), two_(two), options_(options), algebra_(c_), solver_(c_) {}

  Proof run() {
    const Signature& signature = before_.function(one_).signature();
    const ExecutorLimits limits{options_.rounds, options_.most_steps,
                                std::chrono::steady_clock::now() +
                                    std::chrono::milliseconds(static_cast<int64_t>(options_.seconds * 1000))};
    SymbolicMemory memory{
        c_.constant("memory", c_.array_sort(c_.bv_sort(64), c_.bv_sort(8))), c_.bv_val(0, 64), {}};
    std::vector<SymbolicValue> arguments;
    for (size_t k = 0; k < signature.parameters.size(); ++k)
      arguments.push_back(
          {c_.bv_const(fmt::format("argument {}", k).c_str(), signature.parameters[k].total_bits())});
    const SymbolicOutcome a = execute(algebra_, c_, before_, one_, arguments, memory, limits);
    const SymbolicOutcome b = execute(algebra_, c_, after_, two_, arguments, memory, limits);
    solver_.add(!a.breaks);
    solver_.add(!a.exceeds);
    solver_.add(!b.exceeds);
    solver_.add(differ(a, b, signature.results));
    for (const Term& fact : algebra_.facts()) solver_.add(fact);
    contents_of_data(memory.outside);
    Proof out;
    out.bounded = !a.exceeds.simplify().is_false() || !b.exceeds.simplify().is_false();
    // Wherever pointers lead, if that is found soon; inputs that show a difference lie apart.
    const Terms places = apart(arguments, signature.parameters);
    if (apart_ && check(options_.seconds / 4) == z3::unsat) {
      out.verdict = Proof::Verdict::Same;
      return out;
    }
    for (const Term& place : places) solver_.add(place);
    switch (check(options_.seconds)) {
      case z3::unsat:
        out.verdict = Proof::Verdict::Same;
        out.apart = apart_;
        return out;
      case z3::unknown:
        out.why = fmt::format("the solver found no answer in {} s", options_.seconds);
        return out;
      case z3::sat: break;
    }
    return confirmed(out, signature, arguments, memory);
  }

 private:
  // Whether the second form may not stand for the first.
  Term differ(const SymbolicOutcome& a, const SymbolicOutcome& b, const std::vector<Type>& results) {
    // Memories differ where they differ in some place.
    const Term place = c_.bv_const("a place where they differ", 64);
    Term same = z3::select(a.memory.outside, place) == z3::select(b.memory.outside, place) &&
                a.memory.told == b.memory.told;
    for (size_t k = 0; k < std::min(a.results.size(), b.results.size()); ++k)
      same = same && algebra_.same(a.results[k], b.results[k], results[k]);
    const Term at_trap = !a.traps || a.told_at_trap == b.told_at_trap;
    return b.breaks || a.traps != b.traps || !at_trap || (!a.traps && !same);
  }

  // What constant data hold, in both forms, each in its place.
  void contents_of_data(const Term& memory) {
    constexpr uint64_t most = 512;
    for (size_t k = 0; k < before_.symbol_count(); ++k) {
      const SymbolRow& row = before_[Symbol(k)];
      if (row.kind != SymbolKind::Data || !row.data.is_const || !row.data.references().empty()) continue;
      const auto bytes = row.data.image(before_.layout);
      if (bytes.size() > most) continue;
      const Term at = address_of(c_, before_, Symbol(k));
      for (size_t n = 0; n < bytes.size(); ++n)
        solver_.add(z3::select(memory, at + c_.bv_val(static_cast<uint64_t>(n), 64)) ==
                    c_.bv_val(static_cast<uint64_t>(bytes[n]), 8));
    }
  }

  z3::check_result check(double seconds) {
    z3::params p(c_);
    p.set("timeout", static_cast<unsigned>(seconds * 1000));
    solver_.set(p);
    return solver_.check();
  }

  // Objects lie far from each other: what a call by hand can show.
  Terms apart(const std::vector<SymbolicValue>& arguments, const std::vector<Type>& types) {
    uint64_t next = 1;
    Terms out;
    auto place = [&](const Term& at) { out.push_back(at == c_.bv_val(next++ << 40, 64)); };
    size_t pointers = 0, data = 0;
    for (size_t k = 0; k < types.size(); ++k)
      if (types[k].is_pointer() && types[k].bits() == 64) place(arguments[k].bits), ++pointers;
    for (size_t k = 0; k < before_.symbol_count(); ++k) {
      place(address_of(c_, before_, Symbol(k)));
      // Constants may be pointed to, but nothing is written there.
      const SymbolRow& row = before_[Symbol(k)];
      data += row.kind == SymbolKind::ExternData || (row.kind == SymbolKind::Data && !row.data.is_const);
    }
    apart_ = pointers > 0 && pointers + data > 1;
    return out;
  }

  // The solver's input as words, run in both forms.
  Proof confirmed(Proof out, const Signature& signature, const std::vector<SymbolicValue>& arguments,
                  const SymbolicMemory& memory) {
    const z3::model m = solver_.get_model();
    WrittenCall call{std::string(before_.symbol_name(one_)), {}};
    for (size_t k = 0; k < arguments.size(); ++k) {
      const Type t = signature.parameters[k];
      if (t.is_pointer()) {
        std::string word = "bytes:";
        for (unsigned n = 0; n < piece_bytes; ++n)
          word += fmt::format("{:02x}",
                              number(m, z3::select(memory.outside, arguments[k].bits + c_.bv_val(n, 64)))[0]);
        call.words.push_back(word);
        continue;
      }
      std::vector<uint64_t> words;
      for (unsigned lane = 0; lane < t.lanes(); ++lane)
        for (uint64_t w : number(m, Algebra::lane_of(arguments[k].bits, lane, t.bits()))) words.push_back(w);
      call.words.push_back(text::literal_text(words, t));
    }
    const Seen was = evaluate(before_, call), is = evaluate(after_, call, {.seed = 2});
    out.deviation = deviation(was, is);
    if (out.deviation.empty()) {
      out.why = "the solver names an input that runs do not confirm: " + call.text().substr(0, 80);
      return out;
    }
    out.verdict = Proof::Verdict::Different;
    out.call = std::move(call);
    return out;
  }
  static std::vector<uint64_t> number(const z3::model& m, const Term& t) {
    std::vector<uint64_t> out;
    const unsigned width = Algebra::bits(t);
    for (unsigned at = 0; at < width; at += 64)
      out.push_back(m.eval(t.extract(std::min(width, at + 64) - 1, at), true).get_numeral_uint64());
    return out;
  }

  const Module &before_, &after_;
  Symbol one_, two_;
  const ProofOptions& options_;
  z3::context c_;
  Algebra algebra_;
  z3::solver solver_;
  bool apart_ = false;
};

}  // namespace

Proof prove_same(const Module& before, const Module& after, std::string_view function,
                 const ProofOptions& options) {
  const auto start = std::chrono::steady_clock::now();
  const Symbol one = before.find(function), two = after.find(function);
  Proof out;
  auto body = [&](const Module& m, Symbol s) {
    return s.exists() && m.is_function(s) && m.function(s).entry().exists();
  };
  if (!body(before, one) || !body(after, two)) {
    out.why = "one of the forms has no body for it";
  } else if (before.function(one).signature() != after.function(two).signature()) {
    out.why = "its parameters or results are others";
  } else {
    try {
      out = Prover(before, after, one, two, options).run();
    } catch (const NotFollowed& n) {
      out.why = "not followed: " + n.what;
    } catch (const z3::exception& e) {
      out.why = std::string("the solver gave up: ") + e.msg();
    }
  }
  out.seconds = std::chrono::duration<double>(std::chrono::steady_clock::now() - start).count();
  return out;
}

}  // namespace porphyry
