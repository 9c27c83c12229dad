#include "porphyry/call/session.h"

#include <fmt/format.h>

#include <cstring>

#include "porphyry/print/literals.h"

namespace porphyry::wasm {

std::string value_text(const Datum& d, ValueType type) {
  if (type == ValueType::FuncRef || type == ValueType::ExternRef)
    return d.bits == 0 ? "null" : fmt::format("{:#x}", d.bits);
  Type t = ir_type(type);
  if (type == ValueType::V128) {
    return text::literal_text(lane_words(d), t);
  }
  return text::literal_text(d.word() & mask_of(t.total_bits()), t);
}

Session::Session(Instance& instance, Runner run) : instance_(instance), run_(std::move(run)) {
  if (!run_)
    run_ = [](Instance& of, std::string_view name, std::span<const Datum> arguments) {
      return of.call(name, arguments);
    };
}

CallResult Session::begin() {
  for (const char* name : {"_initialize", "__wasm_call_ctors"})
    if (const Export* e = instance_.program().find_export(name); e && e->kind == Kind::Function)
      return instance_.call(name, {});
  return {};
}

// Where a piece goes: bytes of the program's own, or further pages.
Result<uint32_t> Session::put(MemoryPiece& piece) {
  const Program& p = instance_.program();
  if (p.memories.empty()) return complaint("the module has no memory for '" + piece.word + "'");
  const Export* malloc = p.find_export("malloc");
  uint64_t place = instance_.memory().size(), bytes = piece.initial.size();
  if (malloc && malloc->kind == Kind::Function &&
      p.type_of(malloc->index) == FunctionType{{ValueType::I32}, {ValueType::I32}}) {
    Datum size = to_datum(static_cast<uint32_t>(bytes));
    CallResult given = instance_.call("malloc", {&size, 1});
    if (given.end != CallResult::End::Result)
      return complaint("'malloc' for '" + piece.word + "': " + given.message);
    place = given.results[0].bits;
    if (place == 0) return complaint("'malloc' has no room for '" + piece.word + "'");
  } else if (!instance_.grow_memory(static_cast<uint32_t>((bytes + page_bytes - 1) / page_bytes))) {
    return complaint(fmt::format("the memory cannot grow by {} bytes for '{}'", bytes, piece.word));
  }
  std::span<uint8_t> memory = instance_.memory();
  if (place > memory.size() || bytes > memory.size() - place)
    return complaint("'malloc' gave an offset outside of the memory for '" + piece.word + "'");
  std::copy(piece.initial.begin(), piece.initial.end(), memory.begin() + static_cast<ptrdiff_t>(place));
  return static_cast<uint32_t>(place);
}

Result<Datum> Session::argument(const std::string& word, ValueType type) {
  if (word.starts_with('$')) {
    auto known = results_.find(word.substr(1));
    if (known != results_.end()) return known->second;
    return complaint("'" + word + "' is no result of an earlier call", "$1 for the first, or a label");
  }
  bool memory = word.starts_with("file:") || word.starts_with("zero:");
  auto read = read_call_word(word, memory && type == ValueType::I32 ? Type::pointer() : ir_type(type));
  if (!read) return read.why();
  if (!read->piece) {
    return values_of(read->words, {type})[0];
  }
  read->piece->memory = std::make_unique<SharedMemory>(read->piece->initial.size());
  read->piece->reset();
  auto place = put(*read->piece);
  if (!place) return place.why();
  pieces_.pieces.push_back(std::move(*read->piece));
  places_.push_back(*place);
  return to_datum(*place);
}

Result<SessionCall> Session::call(std::string_view function, const std::vector<std::string>& words,
                                  std::string_view label) {
  const Program& p = instance_.program();
  const Export* e = p.find_export(function);
  if (!e || e->kind != Kind::Function) {
    std::vector<std::string> names;
    for (const Export& other : p.exports)
      if (other.kind == Kind::Function) names.push_back(other.name);
    std::string near = nearest(std::string(function), names);
    return complaint(fmt::format("no function is exported as '{}'", function),
                     !near.empty()        ? near
                     : names.size() <= 20 ? listed(names)
                                          : fmt::format("one of {} exports", names.size()));
  }
  const FunctionType& type = p.type_of(e->index);
  if (words.size() != type.parameters.size())
    return complaint(fmt::format("'{}' is called with {}", function, counted(words.size(), "argument")),
                     fmt::format("{} for {}{}", type.parameters.size(), function, type.text()));
  Diagnostics problems;
  std::vector<Datum> arguments;
  for (size_t k = 0; k < words.size(); ++k) {
    auto a = argument(words[k], type.parameters[k]);
    if (a)
      arguments.push_back(*a);
    else
      problems.insert(problems.end(), a.why().begin(), a.why().end());
  }
  if (!problems.empty()) return problems;
  SessionCall out;
  out.text = fmt::format("{}{}", function, words.empty() ? "" : fmt::format(" {}", fmt::join(words, " ")));
  out.run = run_(instance_, function, arguments);
  for (size_t k = 0; k < out.run.results.size(); ++k)
    out.results.push_back(value_text(out.run.results[k], type.results[k]));
  ++calls_;
  if (!out.run.results.empty()) {
    results_[std::to_string(calls_)] = out.run.results[0];
    if (!label.empty()) results_[std::string(label)] = out.run.results[0];
  }
  return out;
}

Result<std::vector<SessionCall>> Session::run_file(const SourceText& calls) {
  std::vector<SessionCall> out;
  std::string_view rest = calls.text();
  const size_t slash = calls.name().rfind('/');
  const std::string folder = slash == std::string::npos ? "" : calls.name().substr(0, slash + 1);
  for (uint32_t line = 1, at = 0; !rest.empty(); ++line) {
    size_t end = std::min(rest.find('\n'), rest.size());
    std::string_view text = rest.substr(0, std::min(end, rest.find('#')));
    std::vector<std::string> words;
    for (size_t k = 0; k < text.size();) {
      size_t from = text.find_first_not_of(" \t\r", k);
      if (from == text.npos) break;
      k = std::min(text.find_first_of(" \t\r", from), text.size());
      words.emplace_back(text.substr(from, k - from));
    }
    std::string label;
    if (words.size() > 2 && words[1] == "=") label = words[0], words.erase(words.begin(), words.begin() + 2);
    if (!words.empty()) {
      const std::string shown = fmt::format("{}", fmt::join(words, " "));
      for (std::string& w : words)  // files lie beside the calls
        if (w.starts_with("file:") && !w.starts_with("file:/")) w = "file:" + folder + w.substr(5);
      auto called = call(words[0], {words.begin() + 1, words.end()}, label);
      if (!called) {
        Diagnostics why;
        for (const Diagnostic& d : called.why())
          why.push_back(calls.at(at, static_cast<uint32_t>(text.size()), d.message, d.expected));
        return why;
      }
      called->text = shown;
      out.push_back(std::move(*called));
      if (out.back().run.end != CallResult::End::Result) break;
    }
    at += static_cast<uint32_t>(end + 1);
    rest.remove_prefix(std::min(end + 1, rest.size()));
  }
  return out;
}

void Session::fetch() {
  std::span<uint8_t> memory = instance_.memory();
  for (size_t k = 0; k < places_.size(); ++k) {
    std::span<uint8_t> to = pieces_.pieces[k].memory->bytes();
    std::copy_n(memory.begin() + places_[k], std::min<size_t>(to.size(), memory.size() - places_[k]),
                to.begin());
  }
}

std::vector<std::string> Session::changed_memory(size_t most) {
  fetch();
  return porphyry::changed_memory(pieces_, most);
}

}  // namespace porphyry::wasm
