#include "helpers.h"

#include <algorithm>
#include <cassert>
#include <vector>

#include "porphyry/formats/text.h"
#include "porphyry/ir/link.h"

namespace porphyry::machine {
namespace {

// The text of one function: from its first line to the brace that ends it.
std::string_view function_text(std::string_view name) {
  std::string_view all = helpers_text();
  std::string head = "\nlocal func " + std::string(name) + "(";
  size_t from = all.find(head);
  assert(from != all.npos && "a helper that does not exist");
  return all.substr(from + 1, all.find("\n}\n", from) + 2 - from);
}

}  // namespace

Symbol Helpers::operator[](std::string_view name) {
  if (auto at = added_.find(name); at != added_.end()) return at->second;
  // This one and all it calls that the module has not got yet, in one small module that is linked in.
  std::vector<std::string> names{std::string(name)};
  std::string text = "module helpers\n";
  for (size_t k = 0; k < names.size(); ++k) {
    std::string_view body = function_text(names[k]);
    text += "\n" + std::string(body);
    for (size_t at = body.find("call "); at != body.npos; at = body.find("call ", at + 1)) {
      std::string callee(body.substr(at + 5, body.find('(', at) - at - 5));
      if (std::find(names.begin(), names.end(), callee) == names.end()) names.push_back(callee);
    }
  }
  Realm realm;
  SourceText source("helpers.por", std::move(text));
  ReadModule read = read_text(realm, source);
  assert(read.problems.empty());
  read.module->layout = module_.layout;
  size_t before = module_.symbol_count();
  [[maybe_unused]] Diagnostics wrong = link(module_, *read.module);
  assert(wrong.empty());
  for (size_t k = 0; k < names.size(); ++k) added_.emplace(names[k], Symbol(before + k));
  return Symbol(before);
}

}  // namespace porphyry::machine
