#include "porphyry/call/call.h"

#include <fmt/format.h>

#include <algorithm>
#include <bit>
#include <chrono>
#include <cstring>

#include "porphyry/base/files.h"
#include "porphyry/base/hash.h"
#include "porphyry/formats/text.h"
#include "porphyry/print/literals.h"
#include "porphyry/print/print.h"

namespace porphyry {
namespace {

std::vector<std::string> split(const std::string& s, char by) {
  std::vector<std::string> out(1);
  for (char c : s) {
    if (c == by)
      out.emplace_back();
    else
      out.back() += c;
  }
  return out;
}

// A number in a file of columns may leave out the point.
std::optional<Bits> column_bits(const std::string& word, Type type) {
  auto bits = text::literal_bits(word, type);
  if (!bits && type.is_float()) bits = text::float_bits(word, type);
  return bits;
}

Result<CallWord> read_file_word(const std::string& word, ByteOrder order) {
  auto parts = split(word.substr(5), ':');
  const char* form = "file:PATH:TYPE, or file:PATH:TYPE:COLUMN";
  std::optional<Bits> column = 0;
  if (parts.size() > 2 && !Type::named(parts.back())) {
    column = text::integer_bits(parts.back(), Type::integer(32));
    parts.pop_back();
  }
  auto type = parts.size() < 2 ? std::nullopt : Type::named(parts.back());
  if (!type || type->is_pointer() || type->has_lanes() || !column)
    return complaint("'" + word + "' does not say what the file holds", form);
  parts.pop_back();
  std::string path = parts[0];
  for (size_t k = 1; k < parts.size(); ++k) path += ":" + parts[k];
  auto bytes = read_numbers(path, *type, static_cast<unsigned>(*column), order);
  if (!bytes) return bytes.why();
  CallWord out;
  out.piece = MemoryPiece{word, *type, std::move(*bytes), nullptr, order};
  return out;
}

}  // namespace

namespace {

// Small numbers, the ends of the range and anything; floats are halves, most of them small.
// Draws are a counter, mixed: short words are made often, and a large generator would be begun each time.
Bits made_number(Type t, uint64_t& drawn) {
  const uint64_t way = mixed(++drawn) % 4, one = mixed(drawn + (uint64_t(1) << 62)),
                 two = mixed(drawn + (uint64_t(1) << 63));
  if (t.is_float()) {
    const double v = static_cast<double>(static_cast<int64_t>(one % 2001) - 1000) / (way ? 8 : 0.5);
    return t.bits() == 32 ? Bits(std::bit_cast<uint32_t>(static_cast<float>(v)))
                          : Bits(std::bit_cast<uint64_t>(v));
  }
  const Bits any = Bits(one) << 64 | two;
  return (way ? any % 16 : any) & mask_of(t.bits());
}

// "zero:BYTES[:TYPE]", "random:BYTES[:TYPE[:SEED]]"
Result<CallWord> read_fresh_word(const std::string& word, ByteOrder order) {
  const bool random = word.starts_with("random:");
  auto parts = split(word.substr(word.find(':') + 1), ':');
  auto n = text::integer_bits(parts[0], Type::integer(64));
  auto type = parts.size() > 1 ? Type::named(parts[1]) : Type::integer(8);
  auto seed = parts.size() > 2 ? text::integer_bits(parts[2], Type::integer(64)) : std::optional<Bits>(1);
  if (!n || *n > (uint64_t(1) << 30) || !type || type->is_pointer() || !seed ||
      parts.size() > (random ? 3u : 2u))
    return complaint("'" + word + "' is not a number of bytes up to 2^30 and perhaps a type" +
                         (random ? " and a seed" : ""),
                     random ? "random:BYTES, random:BYTES:TYPE or random:BYTES:TYPE:SEED"
                            : "zero:BYTES, or zero:BYTES:TYPE");
  std::vector<uint8_t> bytes(static_cast<size_t>(*n));
  uint64_t drawn = mixed(static_cast<uint64_t>(*seed)) >> 2;
  std::vector<uint64_t> words;
  for (size_t at = 0; random && at + type->bytes() <= bytes.size(); at += type->bytes()) {
    words.clear();
    for (unsigned lane = 0; lane < type->lanes(); ++lane) {
      Bits v = made_number(type->element(), drawn);
      words.push_back(static_cast<uint64_t>(v));
      if (type->words_per_lane() == 2) words.push_back(static_cast<uint64_t>(v >> 64));
    }
    put_value(*type, words, order, bytes.data() + at);
  }
  CallWord out;
  out.piece = MemoryPiece{word, *type, std::move(bytes), nullptr, order};
  return out;
}

}  // namespace

namespace {

// "bytes:00ff2a"
Result<CallWord> read_bytes_word(const std::string& word, ByteOrder order) {
  std::vector<uint8_t> bytes;
  const std::string_view digits = std::string_view(word).substr(6);
  auto digit = [](char c) {
    return c >= '0' && c <= '9' ? c - '0' : c >= 'a' && c <= 'f' ? c - 'a' + 10 : -1;
  };
  for (size_t k = 0; k + 1 < digits.size(); k += 2) {
    const int high = digit(digits[k]), low = digit(digits[k + 1]);
    if (high < 0 || low < 0) break;
    bytes.push_back(static_cast<uint8_t>(high * 16 + low));
  }
  if (bytes.size() * 2 != digits.size())
    return complaint("'" + word + "' is not a row of bytes, two hex digits each", "bytes:00ff2a");
  CallWord out;
  out.piece = MemoryPiece{word, Type::integer(8), std::move(bytes), nullptr, order};
  return out;
}

}  // namespace

Result<CallWord> read_call_word(const std::string& word, Type type, ByteOrder order) {
  bool file = word.starts_with("file:"), zero = word.starts_with("zero:") || word.starts_with("random:"),
       bytes = word.starts_with("bytes:");
  if ((file || zero || bytes) && !type.is_pointer())
    return complaint("'" + word + "' gives an address, but the parameter is " + type.name(),
                     "a number of type " + type.name());
  if (file) return read_file_word(word, order);
  if (zero) return read_fresh_word(word, order);
  if (bytes) return read_bytes_word(word, order);
  auto words = text::literal_words(word, type);
  if (!words && type.is_float() && !type.has_lanes())  // a whole number will do
    if (auto bits = text::float_bits(word, type)) words = std::vector<uint64_t>{*bits};
  if (!words)
    return complaint("'" + word + "' is not a number of type " + type.name(),
                     type.is_pointer() ? "file:PATH:TYPE, zero:BYTES, random:BYTES or null"
                                       : "a number of type " + type.name());
  CallWord out;
  out.words = std::move(*words);
  return out;
}

namespace {
std::string number_text(const MemoryPiece& p, const uint8_t* bytes, size_t k) {
  std::vector<uint64_t> words(p.type.words());
  get_value(p.type, bytes + k * p.type.bytes(), p.order, words);
  return text::literal_text(words, p.type);
}
}  // namespace

std::string MemoryPiece::number(size_t k) const { return number_text(*this, memory->bytes().data(), k); }
std::string MemoryPiece::number_before(size_t k) const { return number_text(*this, initial.data(), k); }
bool MemoryPiece::changed(size_t k) const {
  auto at = static_cast<ptrdiff_t>(k * type.bytes());
  return !std::equal(initial.begin() + at, initial.begin() + at + type.bytes(), memory->bytes().begin() + at);
}
std::string MemoryPiece::numbers(size_t most) const {
  std::string out;
  for (size_t k = 0; k < count() && k < most; ++k) out += (k ? " " : "") + number(k);
  return count() > most ? out + " …" : out;
}
bool MemoryPiece::changed() const {
  return !std::equal(initial.begin(), initial.end(), memory->bytes().begin());
}
void MemoryPiece::reset() { std::copy(initial.begin(), initial.end(), memory->bytes().begin()); }

Result<std::vector<uint8_t>> read_numbers(const std::string& path, Type type, unsigned column,
                                          ByteOrder order) {
  auto text = read_file(path);
  if (!text) return text.why();
  if (path.ends_with(".bin")) return std::vector<uint8_t>(text->begin(), text->end());
  SourceText source(path, std::move(*text));
  std::vector<uint8_t> out;
  Diagnostics problems;
  std::string_view all = source.text();
  unsigned field = 0;
  size_t row_start = 0;
  // A row that lacks the column would leave out a number, and all behind it would move.
  auto end_row = [&](size_t at) {
    if (column != 0 && field != 0 && field < column && problems.size() < 20)
      problems.push_back(source.at(
          static_cast<uint32_t>(row_start), static_cast<uint32_t>(at - row_start),
          fmt::format("this row has {} column{}, and no column {}", field, field == 1 ? "" : "s", column),
          fmt::format("at least {} in each row", column)));
    field = 0;
  };
  for (size_t at = 0; at < all.size();) {
    char c = all[at];
    if (c == '\n') end_row(at);
    if (c == '#') {
      while (at < all.size() && all[at] != '\n') ++at;
      continue;
    }
    if (c == ' ' || c == '\t' || c == '\r' || c == ',' || c == '\n') {
      ++at;
      continue;
    }
    size_t from = at;
    while (at < all.size() && std::string_view(" \t\r\n,#").find(all[at]) == std::string_view::npos) ++at;
    if (field == 0) row_start = from;
    if (++field != column && column != 0) continue;
    auto bits = column_bits(std::string(all.substr(from, at - from)), type);
    if (!bits) {
      if (problems.size() < 20)
        problems.push_back(source.at(static_cast<uint32_t>(from), static_cast<uint32_t>(at - from),
                                     "this is not a number of type " + type.name(),
                                     "a number of type " + type.name()));
      continue;
    }
    uint64_t words[2] = {static_cast<uint64_t>(*bits), static_cast<uint64_t>(*bits >> 64)};
    out.resize(out.size() + type.bytes());
    put_value(type, {words, type.words()}, order, out.data() + out.size() - type.bytes());
  }
  end_row(all.size());
  if (problems.empty() && column != 0 && out.empty())
    return complaint("'" + path + "' has no rows, and so no column " + std::to_string(column),
                     "rows of numbers");
  if (!problems.empty()) return problems;
  return out;
}

Result<PreparedCall> prepare_call(const Module& module, std::string_view function,
                                  const std::vector<std::string>& words) {
  Symbol s = module.find(function);
  if (!s.exists() || !module.is_function(s)) {
    std::vector<std::string> names;
    for (Symbol s : module.functions()) names.emplace_back(module.symbol_name(s));
    return complaint(fmt::format("no function with a body is called '{}'", function),
                     names.empty() ? "a module with functions" : listed(names));
  }
  const Signature& signature = module.function(s).signature();
  if (words.size() != signature.parameters.size())
    return complaint(fmt::format("'{}' is called with {} argument{}", function, words.size(),
                                 words.size() == 1 ? "" : "s"),
                     fmt::format("{} for {}{}", signature.parameters.size(), function, signature.text()));
  PreparedCall out;
  out.function = s;
  Diagnostics problems;
  for (size_t k = 0; k < words.size(); ++k) {
    auto parsed = read_call_word(words[k], signature.parameters[k], module.layout.order);
    if (!parsed) {
      problems.insert(problems.end(), parsed.why().begin(), parsed.why().end());
      continue;
    }
    PreparedCall::Argument argument{std::move(parsed->words)};
    if (parsed->piece) {
      argument.piece = static_cast<int>(out.pieces.size());
      parsed->piece->memory = std::make_unique<SharedMemory>(parsed->piece->initial.size());
      parsed->piece->reset();
      out.pieces.push_back(std::move(*parsed->piece));
    }
    out.arguments.push_back(std::move(argument));
  }
  if (!problems.empty()) return problems;
  return out;
}

void provide_usual(Evaluator& evaluator, const Module& module) {
  for (size_t k = 0; k < module.symbol_count(); ++k) {
    const SymbolRow& row = module[Symbol(k)];
    void* host = row.kind == SymbolKind::ExternFunction ? usual_externals(module.text(row.name)) : nullptr;
    if (!host || *row.signature != Signature{std::vector<Type>(row.signature->parameters.size(), Type::f64()),
                                             {Type::f64()}})
      continue;
    size_t count = row.signature->parameters.size();
    evaluator.provide(Symbol(k), [host, count](HostCall& c) {
      auto real = [&](size_t i) { return std::bit_cast<double>(c.arguments[i].bits); };
      double v = count == 1 ? reinterpret_cast<double (*)(double)>(host)(real(0))
                 : count == 2
                     ? reinterpret_cast<double (*)(double, double)>(host)(real(0), real(1))
                     : reinterpret_cast<double (*)(double, double, double)>(host)(real(0), real(1), real(2));
      c.results[0].bits = std::bit_cast<uint64_t>(v);
      return true;
    });
  }
}

Outcome run_prepared(Evaluator& evaluator, const Module& module, PreparedCall& call) {
  std::vector<Datum> pieces, arguments;
  for (MemoryPiece& p : call.pieces)
    pieces.push_back(evaluator.attach(p.memory->bytes().first(p.initial.size()), p.word));
  const Signature& signature = module.function(call.function).signature();
  for (size_t k = 0; k < call.arguments.size(); ++k) {
    const auto& a = call.arguments[k];
    unsigned step = signature.parameters[k].words_per_lane();
    if (a.piece >= 0) arguments.push_back(pieces[static_cast<size_t>(a.piece)]);
    for (size_t w = 0; a.piece < 0 && w < a.words.size(); w += step)
      arguments.push_back({a.words[w], step == 2 ? a.words[w + 1] : 0});
  }
  return evaluator.call(call.function, arguments);
}

std::vector<std::string> result_texts(const Module& module, Symbol function, const Outcome& run) {
  std::vector<std::string> out;
  const Signature& signature = module.function(function).signature();
  for (size_t k = 0, at = 0; !run.results.empty() && k < signature.results.size(); ++k) {
    Type t = signature.results[k];
    std::vector<uint64_t> words;
    for (unsigned lane = 0; lane < t.lanes(); ++lane, ++at) {
      words.push_back(run.results[at].bits);
      if (t.words_per_lane() == 2) words.push_back(run.results[at].high);
    }
    out.push_back(text::literal_text(words, t));
  }
  return out;
}

CallOutcome run_on_evaluator(const Module& module, PreparedCall& call, const EvaluatorOptions& options) {
  Evaluator evaluator(module, options);
  provide_usual(evaluator, module);
  auto start = std::chrono::steady_clock::now();
  Outcome run = run_prepared(evaluator, module, call);
  CallOutcome out;
  out.seconds = std::chrono::duration<double>(std::chrono::steady_clock::now() - start).count();
  out.end = static_cast<CallOutcome::End>(run.end);
  out.message = run.message;
  out.results = result_texts(module, call.function, run);
  for (const Outcome::Call& c : run.trace) {
    std::string line = "in " + std::string(module.symbol_name(c.function));
    if (c.at.exists()) {
      const Function& f = module.function(c.function);
      line += ": " + write_text(module, f, c.at);
      if (std::string p = place_text(module, f.position(c.at)); !p.empty()) line += "  " + p;
    }
    out.trace.push_back(line);
  }
  return out;
}

std::vector<uint64_t> argument_words(const PreparedCall& call) {
  std::vector<uint64_t> out;
  for (const auto& a : call.arguments) {
    if (a.piece < 0)
      out.insert(out.end(), a.words.begin(), a.words.end());
    else
      out.push_back(
          reinterpret_cast<uint64_t>(call.pieces[static_cast<size_t>(a.piece)].memory->bytes().data()));
  }
  return out;
}

namespace {

std::vector<std::string> result_texts(std::span<const uint64_t> words, const std::vector<Type>& types) {
  std::vector<std::string> out;
  for (size_t k = 0; k < types.size() && !words.empty(); ++k) {
    out.push_back(text::literal_text(words.first(types[k].words()), types[k]));
    words = words.subspan(types[k].words());
  }
  return out;
}

}  // namespace

template <class Call>
static CallOutcome run_natively(const Module& module, const Jit& jit, const machine::Target& target,
                                PreparedCall& call, Call run_it) {
  CallOutcome out;
  auto caller = Caller::make(jit, module.symbol_name(call.function), target);
  if (!caller) {
    out.end = CallOutcome::End::Fault;
    out.message = caller.why()[0].message;
    return out;
  }
  NativeOutcome run = run_it(**caller, argument_words(call));
  out.end = static_cast<CallOutcome::End>(run.end);
  out.message = run.message;
  out.seconds = run.seconds;
  out.results = result_texts(run.results, module.function(call.function).signature().results);
  return out;
}

CallOutcome run_on_processor(const Module& module, const Jit& jit, const machine::Target& target,
                             PreparedCall& call, double limit) {
  return run_natively(module, jit, target, call,
                      [&](const Caller& c, auto words) { return c.call_apart(words, limit); });
}

CallOutcome run_here(const Module& module, const Jit& jit, const machine::Target& target, PreparedCall& call,
                     double limit) {
  return run_natively(module, jit, target, call,
                      [&](const Caller& c, auto words) { return c.call_here(words, limit); });
}

// A simulator's run as the outcome of a call.
template <class Run>
static CallOutcome simulated(const Module& module, PreparedCall& call, Run run_it) {
  CallOutcome out;
  auto start = std::chrono::steady_clock::now();
  simulate::RunOutcome run = run_it();
  out.seconds = std::chrono::duration<double>(std::chrono::steady_clock::now() - start).count();
  out.end = static_cast<CallOutcome::End>(run.end);
  out.message = run.message + run.place;
  out.results = result_texts(run.results, module.function(call.function).signature().results);
  return out;
}

template <class Runner>
static void allow_pieces(Runner& runner, PreparedCall& call) {
  for (MemoryPiece& p : call.pieces) runner.allow(p.memory->bytes().first(p.initial.size()));
}

CallOutcome run_on_simulator(const Module& module, const Jit& jit, const machine::Target& target,
                             PreparedCall& call, const simulate::RunOptions& options) {
  auto runner = simulate::Runner::make(jit, module.symbol_name(call.function), target);
  if (!runner) return {.end = CallOutcome::End::Fault, .message = runner.why()[0].message};
  allow_pieces(**runner, call);
  return simulated(module, call, [&] {
    simulate::RunOutcome run = (*runner)->run(argument_words(call), options);
    if (run.end != simulate::RunOutcome::End::Result) run.place = place_text(jit, run.at);
    return run;
  });
}

CallOutcome run_code(const Module& module, simulate::CodeRunner& runner, PreparedCall& call,
                     const simulate::RunOptions& options,
                     const std::function<void(const simulate::CodeObservation&)>& see) {
  allow_pieces(runner, call);
  return simulated(module, call, [&] {
    return runner.run(module.symbol_name(call.function), argument_words(call), options, see);
  });
}

std::vector<std::string> changed_memory(const PreparedCall& call, size_t most) {
  std::vector<std::string> out;
  for (const MemoryPiece& p : call.pieces) {
    size_t changed = 0;
    for (size_t k = 0; k < p.count(); ++k) {
      if (!p.changed(k)) continue;
      if (++changed <= most)
        out.push_back(fmt::format("{}[{}]: {} became {}", p.word, k, p.number_before(k), p.number(k)));
    }
    if (changed > most) out.push_back(fmt::format("{}: {} more changed", p.word, changed - most));
    if (changed == 0) out.push_back(p.word + ": unchanged");
  }
  return out;
}

}  // namespace porphyry
