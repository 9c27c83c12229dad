#include "helpers.h"

#include <fmt/format.h>

#include <algorithm>
#include <array>
#include <cassert>
#include <vector>

#include "porphyry/formats/text.h"
#include "porphyry/ir/link.h"

namespace porphyry::machine {
namespace {

using Words = std::array<std::pair<std::string_view, std::string_view>, 8>;
constexpr Words of_64 = {{{"{word}", "i64"},
                          {"{double}", "i128"},
                          {"{bits}", "64"},
                          {"{top}", "63"},
                          {"{half}", "32"},
                          {"{low}", "0xffffffff"},
                          {"{least}", "-170141183460469231731687303715884105728"},
                          {"{n}", ""}}};
constexpr Words of_32 = {{{"{word}", "i32"},
                          {"{double}", "i64"},
                          {"{bits}", "32"},
                          {"{top}", "31"},
                          {"{half}", "16"},
                          {"{low}", "0xffff"},
                          {"{least}", "-9223372036854775808"},
                          {"{n}", "_32"}}};

std::string_view filled_in(std::string_view brace, const Words& words, std::string_view index) {
  for (auto [name, word] : words)
    if (brace == name) return word;
  assert(brace == "{index}");
  return index;
}

constexpr std::string_view suffix_32 = "_32";

// The text of one function as it stands, from its first line to the brace that ends it.
std::string_view written_function(std::string_view name) {
  std::string_view all = helpers_text(), base = name;
  if (base.ends_with(suffix_32)) base.remove_suffix(suffix_32.size());
  size_t from = all.find(fmt::format("\nlocal func {}{{n}}(", base));
  if (from == all.npos) from = all.find(fmt::format("\nlocal func {}(", name));
  assert(from != all.npos && "a helper that does not exist");
  return all.substr(from + 1, all.find("\n}\n", from) + 2 - from);
}

// The same with its words in braces filled in; the brace that opens the body ends its line.
std::string function_text(std::string_view name, std::string_view index) {
  std::string_view text = written_function(name);
  const Words& words = name.ends_with(suffix_32) ? of_32 : of_64;
  std::string out;
  for (size_t at = 0; at < text.size();) {
    size_t brace = std::min(text.find('{', at), text.size());
    out += text.substr(at, brace - at);
    bool opens_body = text.substr(brace, 2) == "{\n";
    size_t end = opens_body ? brace + 1 : std::min(text.find('}', brace), text.size() - 1) + 1;
    if (brace < text.size())
      out += opens_body ? text.substr(brace, 1) : filled_in(text.substr(brace, end - brace), words, index);
    at = end;
  }
  return out;
}

std::string layout_line(const MemoryLayout& layout) {
  return fmt::format("layout {} pointers {}\n", layout.order == ByteOrder::Big ? "big" : "little",
                     layout.pointer_bits);
}

}  // namespace

std::string helper_routines(const MemoryLayout& layout) {
  std::string text = "module helpers\n" + layout_line(layout);
  std::string_view all = helpers_text();
  const std::string index = Type::integer(layout.pointer_bits).name();
  constexpr std::string_view head = "\nlocal func ";
  for (size_t at = all.find(head); at != all.npos; at = all.find(head, at + 1)) {
    size_t from = at + head.size();
    std::string name(all.substr(from, all.find('(', from) - from));
    size_t brace = name.find('{');
    text += "\n" + function_text(name.substr(0, brace), index);
    if (brace != name.npos)
      text += "\n" + function_text(name.substr(0, brace) + std::string(suffix_32), index);
  }
  return text;
}

Symbol Helpers::for_words(std::string_view name, unsigned word) {
  return (*this)[word == 32 ? std::string(name) + std::string(suffix_32) : name];
}

Symbol Helpers::operator[](std::string_view name) {
  if (auto at = added_.find(name); at != added_.end()) return at->second;
  // This one and all it calls that the module has not got yet, in one small module that is linked in.
  std::vector<std::string> names{std::string(name)};
  const std::string index = module_.index_type().name();
  std::string text = "module helpers\n";
  if (module_.layout != MemoryLayout{}) text += layout_line(module_.layout);
  for (size_t k = 0; k < names.size(); ++k) {
    const std::string body = function_text(names[k], index);
    text += "\n" + body;
    for (size_t at = body.find("call "); at != body.npos; at = body.find("call ", at + 1)) {
      std::string callee = body.substr(at + 5, body.find('(', at) - at - 5);
      if (std::find(names.begin(), names.end(), callee) == names.end()) names.push_back(callee);
    }
  }
  Realm realm;
  SourceText source("helpers.por", std::move(text));
  ReadModule read = read_text(realm, source);
  assert(read.problems.empty());
  size_t before = module_.symbol_count();
  [[maybe_unused]] Diagnostics wrong = link(module_, *read.module);
  assert(wrong.empty());
  for (size_t k = 0; k < names.size(); ++k) added_.emplace(names[k], Symbol(before + k));
  return Symbol(before);
}

}  // namespace porphyry::machine
