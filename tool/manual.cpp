#include "manual.h"

#include <fmt/format.h>

#include <CLI/CLI.hpp>
#include <algorithm>

#include "arguments.h"
#include "common.h"
#include "porphyry/ask/compare.h"
#include "porphyry/ask/views.h"
#include "porphyry/passes/passes.h"
#include "porphyry/targets/targets.h"

namespace porphyry::tool {
namespace {

using Words = std::vector<std::string>;

// What may stand behind an option, where that is one of a few words.
Words words_for(const std::string& verb, const std::string& option) {
  Words out;
  if (option == "-O")
    for (const Level& l : all_levels()) out.emplace_back(l.name.substr(2));
  if (option == "--target")
    for (const machine::Target* t : all_targets()) out.emplace_back(t->name);
  if (option == "--view") {
    out = {"blocks", "drawings"};
    for (const View& v : all_views()) out.emplace_back(v.name);
  }
  if (option == "--by")
    for (const Figure& f : all_figures()) out.emplace_back(f.name);
  if (option == "--kind") out = {"done", "declined", "seen", "left"};
  if (option == "--pass")
    for (const auto& p : standard_passes().all()) out.push_back(p->name);
  if (option == "--on") out = {"eval", "native", "sim"};
  if (option == "--stage") out = {"ir", "selected", "allocated", "encoded"};
  if (option == "--for") out = {"size", "time"};
  if (option == "--permit") out = {"reorder", "fuse", "nonan", "noinf", "nozerosign", "estimate", "ends"};
  if (option == "--as" && verb == "show") out = {"text", "dot", "svg", "png", "json", "listing"};
  if (option == "--as" && verb == "lower") out = {"listing", "object", "assembly", "json", "ir", "page"};
  if (option == "--as" && verb == "manual") out = {"man", "bash", "zsh", "fish"};
  return out;
}

std::vector<const CLI::Option*> options_of(const CLI::App& verb) {
  return verb.get_options([](const CLI::Option* o) { return !o->get_positional(); });
}
std::vector<const CLI::Option*> arguments_of(const CLI::App& verb) {
  return verb.get_options([](const CLI::Option* o) { return o->get_positional(); });
}
bool takes_word(const CLI::Option& o) { return o.get_type_size() != 0 && o.get_name() != "--help"; }

std::string joined(const Words& words) {
  std::string out;
  for (const std::string& w : words) out += (out.empty() ? "" : " ") + w;
  return out;
}

// Letters that roff takes for its own.
std::string roff(std::string_view text) {
  std::string out;
  for (char c : text) {
    if (c == '\\')
      out += "\\e";
    else if (c == '-')
      out += "\\-";
    else if (out.empty() && (c == '.' || c == '\''))
      out += std::string("\\&") + c;
    else
      out += c;
  }
  return out;
}

std::string in_single_quotes(std::string_view text) {
  std::string out = "'";
  for (char c : text) out += c == '\'' ? std::string("'\\''") : std::string(1, c);
  return out + "'";
}

std::string bash(const CLI::App& app) {
  Words verbs;
  std::string cases;
  for (const CLI::App* verb : app.get_subcommands({})) {
    verbs.push_back(verb->get_name());
    Words options;
    for (const CLI::Option* o : options_of(*verb)) {
      options.push_back(o->get_name());
      const Words words = words_for(verb->get_name(), o->get_name());
      if (!words.empty())
        cases += fmt::format("    {}:{}) COMPREPLY=($(compgen -W {} -- \"$word\")); return ;;\n",
                             verb->get_name(), o->get_name(), in_single_quotes(joined(words)));
    }
    cases += fmt::format("    {}:*) [[ $word == -* ]] && COMPREPLY=($(compgen -W {} -- \"$word\")) ;;\n",
                         verb->get_name(), in_single_quotes(joined(options)));
  }
  return fmt::format(
      "# Completion of porphyry's verbs and options for bash.\n"
      "_porphyry() {{\n"
      "  local word=${{COMP_WORDS[COMP_CWORD]}} before=${{COMP_WORDS[COMP_CWORD-1]}}\n"
      "  COMPREPLY=()\n"
      "  if [ \"$COMP_CWORD\" -eq 1 ]; then\n"
      "    COMPREPLY=($(compgen -W {} -- \"$word\"))\n"
      "    return\n"
      "  fi\n"
      "  case \"${{COMP_WORDS[1]}}:$before\" in\n{}  esac\n"
      "}}\n"
      "complete -o default -F _porphyry porphyry\n",
      in_single_quotes(joined(verbs)), cases);
}

std::string zsh(const CLI::App& app) {
  std::string verbs, cases;
  auto quoted = [](std::string text) {
    for (size_t at = 0; (at = text.find_first_of("[]:", at)) != text.npos; at += 2) text.insert(at, "\\");
    return text;
  };
  for (const CLI::App* verb : app.get_subcommands({})) {
    verbs += "    " + in_single_quotes(verb->get_name() + ":" + quoted(verb->get_description())) + "\n";
    cases += fmt::format("    {})\n      _arguments", verb->get_name());
    for (const CLI::Option* o : options_of(*verb)) {
      const Words words = words_for(verb->get_name(), o->get_name());
      std::string behind = !takes_word(*o) ? ""
                           : words.empty() ? ":word:_files"
                                           : ":word:(" + joined(words) + ")";
      cases += " \\\n        " +
               in_single_quotes(o->get_name() + "[" + quoted(o->get_description()) + "]" + behind);
    }
    cases += " \\\n        '*:file:_files'\n      ;;\n";
  }
  return "#compdef porphyry\n# Completion of porphyry's verbs and options for zsh.\n_porphyry() {\n  local "
         "-a verbs=(\n" +
         verbs +
         "  )\n  if (( CURRENT == 2 )); then\n    _describe verb verbs\n    return\n  fi\n  local "
         "verb=$words[2]\n"
         "  shift words\n  (( CURRENT-- ))\n  case $verb in\n" +
         cases + "  esac\n}\n_porphyry \"$@\"\n";
}

std::string fish(const CLI::App& app) {
  std::string out = "# Completion of porphyry's verbs and options for fish.\n";
  for (const CLI::App* verb : app.get_subcommands({}))
    out += fmt::format("complete -c porphyry -n __fish_use_subcommand -f -a {} -d {}\n", verb->get_name(),
                       in_single_quotes(verb->get_description()));
  for (const CLI::App* verb : app.get_subcommands({}))
    for (const CLI::Option* o : options_of(*verb)) {
      const std::string name = o->get_name();
      const Words words = words_for(verb->get_name(), name);
      out += fmt::format("complete -c porphyry -n '__fish_seen_subcommand_from {}' {} {}{}{} -d {}\n",
                         verb->get_name(), name.starts_with("--") ? "-l" : "-s",
                         name.substr(name.find_first_not_of('-')), takes_word(*o) ? " -r" : "",
                         words.empty() ? "" : " -f -a " + in_single_quotes(joined(words)),
                         in_single_quotes(o->get_description()));
    }
  return out;
}

}  // namespace

std::string man_page(const CLI::App& app) {
  std::string out =
      fmt::format(".TH PORPHYRY 1 \"\" \"porphyry {}\"\n.SH NAME\nporphyry \\- {}\n", PORPHYRY_VERSION,
                  "lowers, optimizes and runs programs in its intermediate representation");
  out += ".SH SYNOPSIS\n.B porphyry\n.I VERB\n[arguments] [options]\n";
  out += ".SH DESCRIPTION\n" + roff(app.get_description()) +
         "\n.PP\nEvery verb reads files or standard input in any form that is known, and writes to standard "
         "output or "
         "where \\fB\\-o\\fR says.\n.SH VERBS\n";
  for (const CLI::App* verb : app.get_subcommands({})) {
    out += fmt::format(".SS {}", roff(verb->get_name()));
    for (const CLI::Option* a : arguments_of(*verb))
      out += fmt::format(" [{}{}]", roff(upper(a->get_name(true))),
                         a->get_items_expected_max() > 1 ? "..." : "");
    out += "\n" + roff(verb->get_description()) + ".\n";
    for (const CLI::Option* a : arguments_of(*verb))
      out += fmt::format(".TP\n.I {}\n{}\n", roff(upper(a->get_name(true))), roff(a->get_description()));
    for (const CLI::Option* o : options_of(*verb)) {
      const Words words = words_for(verb->get_name(), o->get_name());
      out += fmt::format(".TP\n.B {}{}\n{}{}\n", roff(o->get_name()), takes_word(*o) ? " \\fIWORD\\fR" : "",
                         roff(o->get_description()),
                         words.empty() || words.size() > 12 ? "" : roff(" (" + listed(words) + ")"));
    }
  }
  return out + ".SH EXIT STATUS\n0: all is well. 1: the input is at fault. 2: the call is at fault.\n";
}

std::string completion(const CLI::App& app, const std::string& shell) {
  return shell == "bash" ? bash(app) : shell == "zsh" ? zsh(app) : shell == "fish" ? fish(app) : "";
}

}  // namespace porphyry::tool
