#include "arguments.h"

#include <fmt/format.h>

#include <CLI/CLI.hpp>

namespace porphyry::tool {

std::string upper(std::string word) {
  for (char& c : word) c = static_cast<char>(std::toupper(static_cast<unsigned char>(c)));
  return word;
}

namespace {

// The arguments of a verb in their order, as the usage line has them.
std::string argument_list(const CLI::App& verb) {
  std::string out;
  for (const CLI::Option* o : verb.get_options([](const CLI::Option* x) { return x->get_positional(); })) {
    std::string name = upper(o->get_name(true));
    if (o->get_items_expected_max() > 1) name += "...";
    out += o->get_required() ? " " + name : " [" + name + "]";
  }
  return out;
}

std::string usage_of(const CLI::App& app) {
  if (!app.get_parent()) return "porphyry VERB ...";
  return "porphyry " + app.get_name() + argument_list(app) + " [options]";
}

class HouseFormatter : public CLI::Formatter {
 public:
  HouseFormatter() {
    label("TEXT", "WORD");
    label("UINT", "NUMBER");
    label("FLOAT", "NUMBER");
    label("Positionals", "arguments");
    column_width(26);
  }
  std::string make_usage(const CLI::App* app, std::string) const override {
    return "\nusage: " + usage_of(*app) + "\n";
  }
  std::string make_option_name(const CLI::Option* o, bool positional) const override {
    return positional ? upper(o->get_name(true)) : CLI::Formatter::make_option_name(o, false);
  }
  std::string make_option_opts(const CLI::Option* o) const override {
    if (o->get_positional()) return o->get_items_expected_max() > 1 ? "..." : "";
    return o->get_type_size() == 0 ? "" : " " + get_label(o->get_type_name());
  }
};

// What stands behind `mark` in a message of the parser; nothing when it says something else.
std::optional<std::string> behind(const std::string& said, std::string_view mark) {
  size_t at = said.find(mark);
  if (at == said.npos) return std::nullopt;
  return said.substr(at + mark.size());
}

std::string option_with_its_word(const CLI::App& verb, const std::string& name) {
  const CLI::Option* o = verb.get_option_no_throw(name);
  if (!o) return name;
  bool number = o->get_type_name() != "TEXT" && o->get_type_name() != "FILE";
  return name + " " + (number ? "NUMBER" : o->get_type_name() == "FILE" ? "FILE" : "WORD");
}

std::vector<std::string> option_names(const CLI::App& verb) {
  std::vector<std::string> out;
  for (const CLI::Option* o : verb.get_options())
    if (!o->get_positional()) out.push_back(o->get_name());
  return out;
}

}  // namespace

void speak_our_form(CLI::App& app) {
  auto form = std::make_shared<HouseFormatter>();
  app.formatter(form);
  auto settle = [](CLI::App& one) {
    one.get_help_ptr()->description("What stands here");
    for (CLI::Option* o : one.get_options())
      if (!o->get_positional()) o->group("options");
  };
  settle(app);
  for (CLI::App* verb : app.get_subcommands({})) {
    verb->formatter(form);
    verb->group("verbs");
    settle(*verb);
  }
}

Diagnostic call_problem(const CLI::App& app, const CLI::ParseError& error) {
  auto called = app.get_subcommands();
  const CLI::App& verb = called.empty() ? app : *called[0];
  const std::string said = error.what(), usage = usage_of(verb);
  if (error.get_name() == "RequiredError" && called.empty()) {
    std::vector<std::string> verbs;
    for (const CLI::App* v : app.get_subcommands({})) verbs.push_back(v->get_name());
    return complaint("a verb is missing", listed(verbs));
  }
  if (auto words = behind(said, " not expected: ")) {
    std::string word = words->substr(0, words->find(' '));
    if (!word.starts_with('-')) return complaint("'" + word + "' is a word too many", usage);
    std::string near = nearest(word, option_names(verb));
    return complaint(
        fmt::format("'{}' has no option '{}'", called.empty() ? "porphyry" : verb.get_name(), word),
        near.empty() ? listed(option_names(verb)) : near);
  }
  if (auto pair = behind(said, "Could not convert: ")) {
    size_t equals = pair->find(" = ");
    std::string name = pair->substr(0, equals), value = equals == pair->npos ? "" : pair->substr(equals + 3);
    return complaint("'" + value + "' is not what " + name + " takes", option_with_its_word(verb, name));
  }
  if (error.get_name() == "RequiredError")
    return complaint(upper(said.substr(0, said.find(' '))) + " is missing", usage);
  if (error.get_name() == "ArgumentMismatch") {
    std::string name = said.substr(0, said.find(':'));
    return complaint(name + " stands without its word, or more than once", option_with_its_word(verb, name));
  }
  return complaint("the call cannot be understood: " + said, usage);
}

}  // namespace porphyry::tool
