// Idea: an input is a line of words that a person can run again. Numbers are small, at the ends of their
// range, constants of the function, the same as another argument, or anything; memory is `random:` words. An
// input counts when two runs that differ in what fresh memory holds agree.
#include "porphyry/ask/inputs.h"

#include <fmt/format.h>

#include <algorithm>
#include <cmath>
#include <random>
#include <unordered_map>
#include <unordered_set>

#include "porphyry/print/literals.h"

namespace porphyry {
namespace {

constexpr unsigned piece_bytes = 4096;

using Random = std::mt19937_64;

// Numbers that decide something: a function's own constants, by type.
std::vector<Bits> constants_of(const Function& f, Type t) {
  std::vector<Bits> out;
  for (size_t k = 0; k < f.value_limit(); ++k)
    if (Value v(k); f.is_constant(v) && f.type(v) == t) out.push_back(f.constant_word(v));
  return out;
}

Bits number(Type t, Random& random) {
  if (t.is_float()) {
    static constexpr double hard[] = {0, -0.0, 1, -1, 0.5, 1e-3, 255, 1e9, -1e20, INFINITY, -INFINITY};
    double v = random() % 3 == 0 ? hard[random() % std::size(hard)]
                                 : static_cast<double>(static_cast<int64_t>(random() % 4001) - 2000) / 8;
    return t.bits() == 32 ? Bits(std::bit_cast<uint32_t>(static_cast<float>(v)))
                          : Bits(std::bit_cast<uint64_t>(v));
  }
  // One draw a statement: the order within an expression is the compiler's affair.
  const Bits mask = mask_of(t.bits());
  const uint64_t way = random() % 6, one = random(), two = random();
  switch (way) {
    case 0: return (Bits(one) << 64 | two) & mask;
    case 1: return (Bits(0) - one % 10) & mask;
    case 2: return ((Bits(1) << (t.bits() - 1)) + one % 3 - 1) & mask;
    default: return one % (two % 2 ? 9 : 65) & mask;
  }
}

std::string word_for(Type t, const std::vector<Bits>& known, Random& random) {
  if (t.is_pointer()) {
    static constexpr const char* types[] = {"i8", "i32", "f32", "i64"};
    const char* type = types[random() % std::size(types)];
    return fmt::format("random:{}:{}:{}", piece_bytes, type, random() % 1000);
  }
  std::vector<uint64_t> words;
  for (unsigned lane = 0; lane < t.lanes(); ++lane) {
    Bits v = number(t.element(), random);
    if (!known.empty() && random() % 4 == 0) {
      v = known[random() % known.size()];
      if (t.is_integer()) v = (v + random() % 3 - 1) & mask_of(t.bits());
    }
    words.push_back(static_cast<uint64_t>(v));
    if (t.words_per_lane() == 2) words.push_back(static_cast<uint64_t>(v >> 64));
  }
  return text::literal_text(words, t);
}

// A function that nobody has: floats and integers that depend on what it is given.
void provide_stand_ins(Evaluator& evaluator, const Module& module) {
  for (size_t k = 0; k < module.symbol_count(); ++k) {
    const SymbolRow& row = module[Symbol(k)];
    if (row.kind != SymbolKind::ExternFunction) continue;
    const Signature& signature = *row.signature;
    bool plain = std::none_of(signature.results.begin(), signature.results.end(),
                              [](Type t) { return t.is_pointer(); });
    if (!plain || (row.facts.outside & outside::frees)) continue;
    std::vector<Type> lanes;
    for (Type t : signature.results) lanes.insert(lanes.end(), t.lanes(), t.element());
    evaluator.provide(Symbol(k), [lanes](HostCall& call) {
      uint64_t sum = 0x3ff0000000000000;
      for (const Datum& d : call.arguments) sum = (sum ^ (d.bits & 0xfffff)) * 3;
      for (size_t r = 0; r < lanes.size(); ++r) {
        double real = 1 + static_cast<double>((sum >> 8) % 1000) / 1000;
        uint64_t bits = !lanes[r].is_float()    ? sum + r
                        : lanes[r].bits() == 64 ? std::bit_cast<uint64_t>(real)
                                                : std::bit_cast<uint32_t>(static_cast<float>(real));
        call.results[r].bits = bits & static_cast<uint64_t>(mask_of(lanes[r].bits()));
      }
      return true;
    });
  }
}

std::string in_quotes(const std::string& word) {
  return word.find_first_of(" {}()$'\"") == word.npos ? word : "'" + word + "'";
}

}  // namespace

std::string seen_result(std::string text) {
  return text.find("nan") == text.npos ? text : text.find('{') == text.npos ? "nan" : text;
}

std::string WrittenCall::text() const {
  std::string out = in_quotes(function);
  for (const std::string& w : words) out += " " + in_quotes(w);
  return out;
}

WrittenCall read_call(std::string_view text) {
  WrittenCall out;
  std::vector<std::string> words(1);
  bool quoted = false;
  int depth = 0;
  for (char c : text) {
    if (c == '\'') {
      quoted = !quoted;
      continue;
    }
    depth += (c == '{') - (c == '}');
    if (!quoted && depth == 0 && (c == ' ' || c == '\t'))
      words.emplace_back();
    else
      words.back() += c;
  }
  std::erase(words, "");
  if (words.empty()) return out;
  out.function = words[0];
  out.words.assign(words.begin() + 1, words.end());
  return out;
}

std::string Seen::text() const {
  if (end != Outcome::End::Result) return end_text(end) + ": " + message;
  std::string out;
  for (const std::string& r : results) out += (out.empty() ? "" : ", ") + r;
  return results.empty() ? "no result" : out;
}

Seen evaluate(const Module& module, const WrittenCall& call, const RunLimits& limits) {
  Seen out;
  auto prepared = prepare_call(module, call.function, call.words);
  if (!prepared) {
    out.end = Outcome::End::Fault;
    out.message = prepared.why()[0].message;
    return out;
  }
  Evaluator evaluator(module, {.seed = limits.seed, .step_limit = limits.steps, .follow = limits.follow});
  provide_stand_ins(evaluator, module);
  provide_usual(evaluator, module);
  Outcome run = run_prepared(evaluator, module, *prepared);
  out.end = run.end;
  out.steps = run.steps;
  out.message = run.message;
  if (run.end != Outcome::End::Result) return out;
  for (std::string& r : result_texts(module, prepared->function, run)) out.results.push_back(seen_result(r));
  for (const MemoryPiece& p : prepared->pieces) {
    auto bytes = p.memory->bytes().first(p.initial.size());
    out.pieces.emplace_back(bytes.begin(), bytes.end());
  }
  for (size_t k = 0; k < module.symbol_count(); ++k) {
    const SymbolRow& row = module[Symbol(k)];
    if (row.kind != SymbolKind::Data || row.data.is_const || row.is_local) continue;
    auto bytes = evaluator.data(Symbol(k));
    out.data.push_back({std::string(module.symbol_name(Symbol(k))), {bytes.begin(), bytes.end()}});
  }
  return out;
}

namespace {

std::string differing_byte(const std::vector<uint8_t>& before, const std::vector<uint8_t>& after,
                           std::string_view what) {
  auto [b, a] = std::mismatch(before.begin(), before.end(), after.begin(), after.end());
  if (b == before.end() || a == after.end()) return "";
  return fmt::format("byte {} of {} is {:#04x} instead of {:#04x}", b - before.begin(), what, *a, *b);
}

}  // namespace

std::string deviation(const Seen& before, const Seen& after) {
  using End = Outcome::End;
  if (before.end == End::Fault || before.end == End::Exhausted) return "";
  if (before.end != after.end) return fmt::format("{} instead of {}", after.text(), before.text());
  if (before.end == End::Trap) return "";
  if (before.results != after.results) return fmt::format("{} instead of {}", after.text(), before.text());
  for (size_t k = 0; k < std::min(before.pieces.size(), after.pieces.size()); ++k)
    if (std::string d = differing_byte(before.pieces[k], after.pieces[k],
                                       fmt::format("the memory of argument piece {}", k + 1));
        !d.empty())
      return d;
  for (const Seen::Data& b : before.data)
    for (const Seen::Data& a : after.data)
      if (a.name == b.name)
        if (std::string d = differing_byte(b.bytes, a.bytes, "'" + a.name + "'"); !d.empty()) return d;
  return "";
}

namespace {

// What a run passes by: ways out of branches, how near the two sides of a comparison were, and their signs.
// Two inputs with the same of it are worth little more than one.
class Passed {
 public:
  explicit Passed(const Module& module) : module_(module) {}

  void operator()(const Observation& seen) {
    if (++looked_at_ > most) return;
    const Function& f = module_.function(seen.function);
    if (seen.value.exists() && !seen.lanes.empty())
      last_[key(seen.function, seen.value)] = seen.lanes[0].word();
    if (!seen.at.exists() || !seen.value.exists() || f.kind(seen.value) != ValueKind::Result) return;
    if (!f.type(seen.value).is_bool() || f.operand_count(seen.at) != 2) return;
    Bits a = operand(seen, 0), b = operand(seen, 1);
    unsigned distance = a == b ? 0 : a - b == 1 ? 1 : b - a == 1 ? 2 : 3;
    const unsigned width = f.type(f.operand(seen.at, 0)).bits();
    const auto signs = static_cast<unsigned>((a >> (width - 1) & 1) << 1 | (b >> (width - 1) & 1));
    all.push_back(uint64_t(seen.function.index) << 40 | uint64_t(seen.at.index) << 8 | signs << 3 |
                  distance << 1 | (seen.lanes[0].bits & 1));
  }
  std::vector<uint64_t> all;

 private:
  static constexpr size_t most = 4'000;
  static uint64_t key(Symbol s, Value v) { return uint64_t(s.index) << 32 | v.index; }
  Bits operand(const Observation& seen, size_t k) const {
    const Function& f = module_.function(seen.function);
    Value v = f.operand(seen.at, k);
    if (f.is_constant(v)) return f.constant_word(v);
    auto known = last_.find(key(seen.function, v));
    return known == last_.end() ? 0 : known->second;
  }

  const Module& module_;
  std::unordered_map<uint64_t, Bits> last_;
  size_t looked_at_ = 0;
};

class InputMaker {
 public:
  InputMaker(const Module& module, Symbol function, const InputOptions& options)
      : module_(module),
        function_(function),
        types_(module.function(function).signature().parameters),
        options_(options),
        random_(options.limits.seed * 977 + function.index) {
    for (Type t : types_) known_.push_back(constants_of(module.function(function), t.element()));
  }

  std::vector<WrittenCall> run() {
    std::vector<WrittenCall> spare;
    const unsigned attempts = types_.empty() ? 1 : options_.attempts;  // without arguments there is but one
    unsigned in_vain = 0;  // since the last one that showed something
    for (unsigned k = 0; k < attempts && out_.size() < options_.count; ++k) {
      const bool enough = out_.size() + spare.size() >= options_.count || spent_ > most_steps;
      if (enough && !out_.empty() && in_vain > 24) break;
      ++in_vain;
      WrittenCall call = one();
      std::vector<uint64_t> passed;
      if (!known_calls_.insert(call.text()).second || !ends(call, passed)) continue;
      bool shows = false;
      for (uint64_t p : passed) shows |= seen_.insert(p).second;
      if (shows) in_vain = 0;
      (shows ? out_ : spare).push_back(std::move(call));
    }
    // Those of long runs are dear: a few have to do.
    const size_t wanted = spent_ > most_steps ? options_.count / 4 : options_.count;
    for (WrittenCall& call : spare)
      if (out_.size() < wanted) out_.push_back(std::move(call));
    return std::move(out_);
  }

 private:
  WrittenCall one() {
    WrittenCall call{std::string(module_.symbol_name(function_)), {}};
    for (size_t p = 0; p < types_.size(); ++p) {
      size_t same = 0;  // what is compared is often equal
      while (same < p && types_[same] != types_[p]) ++same;
      call.words.push_back(same < p && random_() % 5 == 0 ? call.words[same]
                                                          : word_for(types_[p], known_[p], random_));
    }
    return call;
  }

  // With a result or a trap that is the same for other contents of fresh memory.
  bool ends(const WrittenCall& call, std::vector<uint64_t>& passed) {
    Passed looker(module_);
    RunLimits limits = options_.limits;
    limits.follow = std::ref(looker);
    Seen one = evaluate(module_, call, limits);
    spent_ += one.steps;
    if (one.end != Outcome::End::Result && one.end != Outcome::End::Trap) return false;
    limits.seed += 1;
    limits.follow = {};
    passed = std::move(looker.all);
    passed.push_back(uint64_t(one.end) << 60);
    return deviation(one, evaluate(module_, call, limits)).empty();
  }

  const Module& module_;
  Symbol function_;
  const std::vector<Type>& types_;
  const InputOptions& options_;
  Random random_;
  std::vector<std::vector<Bits>> known_;  // by parameter
  static constexpr uint64_t most_steps = 30'000;
  uint64_t spent_ = 0;  // steps
  std::unordered_set<uint64_t> seen_;
  std::unordered_set<std::string> known_calls_;
  std::vector<WrittenCall> out_;
};

}  // namespace

std::vector<WrittenCall> make_calls(const Module& module, Symbol function, const InputOptions& options) {
  return InputMaker(module, function, options).run();
}

}  // namespace porphyry
