// Extended regular expressions by the system's C library (POSIX.1-2017, XBD 9.4; \w and \b as it adds them):
// std::regex takes seconds to compile in each file that uses it.
#pragma once

#include <regex.h>

#include <stdexcept>
#include <string>
#include <vector>

namespace porphyry::testing {

class Pattern {
 public:
  explicit Pattern(const std::string& text) {
    if (regcomp(&compiled_, text.c_str(), REG_EXTENDED) != 0) throw std::invalid_argument(text);
  }
  Pattern(const Pattern&) = delete;
  Pattern& operator=(const Pattern&) = delete;
  ~Pattern() { regfree(&compiled_); }

  using Groups = std::vector<std::string>;  // the whole match, then what is in parentheses

  // The matches in `text`, from left to right, none within another.
  std::vector<Groups> all(const std::string& text) const {
    std::vector<Groups> found;
    std::vector<regmatch_t> at(compiled_.re_nsub + 1);
    const char* from = text.c_str();
    while (regexec(&compiled_, from, at.size(), at.data(), from == text.c_str() ? 0 : REG_NOTBOL) == 0) {
      Groups& groups = found.emplace_back();
      for (const regmatch_t& g : at)
        groups.push_back(g.rm_so < 0 ? "" : std::string(from + g.rm_so, from + g.rm_eo));
      if (at[0].rm_eo == 0) break;  // an empty match would be found for ever
      from += at[0].rm_eo;
    }
    return found;
  }

  bool in(const std::string& text) const { return !all(text).empty(); }

 private:
  regex_t compiled_;
};

}  // namespace porphyry::testing
