#include "pages.h"

#include <map>
#include <optional>

namespace porphyry::bind {
namespace {

std::string trimmed(std::string s) {
  if (size_t at = s.find("--"); at != std::string::npos) s.resize(at);
  while (!s.empty() && (s.back() == ' ' || s.back() == '\r' || s.back() == '\t')) s.pop_back();
  size_t from = s.find_first_not_of(" \t");
  return from == std::string::npos ? "" : s.substr(from);
}

std::vector<std::string> split(const std::string& s, char by) {
  std::vector<std::string> out;
  std::string part;
  for (char c : s + by) {
    if (c != by) {
      part += c;
    } else {
      if (part.find_first_not_of(' ') != std::string::npos) out.push_back(part);
      part.clear();
    }
  }
  return out;
}

using Tuple = std::map<std::string, std::string>;

std::string put_in(const std::string& text, const Tuple& words, bool& unknown) {
  std::string out;
  for (size_t i = 0; i < text.size(); ++i) {
    size_t end = text[i] == '{' ? text.find('}', i) : std::string::npos;
    if (end == std::string::npos) {
      out += text[i];
      continue;
    }
    auto word = words.find(text.substr(i + 1, end - i - 1));
    if (word == words.end())
      unknown = true;
    else
      out += word->second;
    i = end;
  }
  return out;
}

class Gatherer {
 public:
  Gatherer(const SourceText& source, Diagnostics& problems) : source_(source), problems_(problems) {}

  std::vector<Entry> run() {
    std::vector<Entry> raw;
    uint32_t number = 0;
    for (const std::string& whole : lines()) {
      ++number;
      std::string text = trimmed(whole);
      if (text.empty()) continue;
      uint32_t indent = static_cast<uint32_t>(whole.find_first_not_of(" \t"));
      Line line{text, number, indent};
      if (indent == 0 && text != "becomes")
        raw.push_back({line, {}});
      else if (raw.empty())
        complain(line, "this line belongs to no entry", "an entry's header in the first column");
      else
        raw.back().body.push_back(line);
    }
    std::vector<Entry> out;
    for (Entry& e : raw) repeat(e, out);
    return out;
  }

 private:
  std::vector<std::string> lines() const {
    std::vector<std::string> out(1);
    for (char c : source_.text()) {
      if (c == '\n')
        out.emplace_back();
      else
        out.back() += c;
    }
    return out;
  }

  void complain(const Line& line, std::string message, std::string expected) {
    problems_.push_back(about_line(source_, line, std::move(message), std::move(expected)));
  }

  // each a b: 1 2, 3 4
  std::vector<Tuple> tuples(const Line& line) {
    std::vector<Tuple> out;
    size_t colon = line.text.find(':');
    auto names = split(line.text.substr(5, colon == std::string::npos ? 0 : colon - 5), ' ');
    if (colon == std::string::npos || names.empty()) {
      complain(line, "this `each` names nothing", "each a b: 1 2, 3 4");
      return out;
    }
    for (const std::string& tuple : split(line.text.substr(colon + 1), ',')) {
      auto values = split(tuple, ' ');
      if (values.size() != names.size()) {
        complain(line, "a tuple here has " + std::to_string(values.size()) + " words",
                 std::to_string(names.size()));
        continue;
      }
      Tuple words;
      for (size_t k = 0; k < names.size(); ++k) words[names[k]] = values[k];
      out.push_back(words);
    }
    return out;
  }

  void repeat(const Entry& entry, std::vector<Entry>& out) {
    std::vector<Tuple> all{{}};
    Entry plain{entry.header, {}};
    for (const Line& line : entry.body) {
      if (!line.text.starts_with("each ")) {
        plain.body.push_back(line);
        continue;
      }
      std::vector<Tuple> more;
      for (const Tuple& so_far : all)
        for (const Tuple& tuple : tuples(line)) {
          more.push_back(so_far);
          more.back().insert(tuple.begin(), tuple.end());
        }
      all = std::move(more);
    }
    for (const Tuple& words : all) {
      Entry e = plain;
      auto fill = [&](Line& line) {
        bool unknown = false;
        std::string text = put_in(line.text, words, unknown);
        if (unknown)
          complain(line, "a word in braces is not named by an `each` line",
                   "a word of this entry's `each` lines");
        line.text = text;
      };
      fill(e.header);
      for (Line& line : e.body) fill(line);
      out.push_back(std::move(e));
    }
  }

  const SourceText& source_;
  Diagnostics& problems_;
};

}  // namespace

Diagnostic about_line(const SourceText& source, const Line& line, std::string message, std::string expected) {
  Diagnostic d = complaint(std::move(message), std::move(expected));
  d.file = source.name();
  d.line = line.number;
  d.column = line.indent + 1;
  d.excerpt = line.text;
  d.length = static_cast<uint32_t>(line.text.size());
  return d;
}

std::vector<Entry> gather_entries(const SourceText& source, Diagnostics& problems) {
  return Gatherer(source, problems).run();
}

Words words(const std::string& text) {
  Words out;
  bool open = false;
  for (size_t i = 0; i < text.size(); ++i) {
    char c = text[i];
    bool is_sign = c == '-' && i + 1 < text.size() && text[i + 1] >= '0' && text[i + 1] <= '9' && !open;
    if (c == ' ') {
      open = false;
    } else if (!is_sign && std::string_view(",:=[]*").find(c) != std::string_view::npos) {
      out.emplace_back(1, c);
      open = false;
    } else {
      if (!open) out.emplace_back();
      out.back() += c;
      open = true;
    }
  }
  return out;
}

std::string after_first_word(const std::string& text) {
  size_t space = text.find(' ');
  return space == std::string::npos ? "" : trimmed(text.substr(space));
}

std::optional<int64_t> number(const std::string& word) {
  int64_t total = 0;
  for (const std::string& part : split(word, '+')) {
    size_t used = 0;
    try {
      total += static_cast<int64_t>(part.starts_with('-') ? static_cast<uint64_t>(std::stoll(part, &used, 0))
                                                          : std::stoull(part, &used, 0));
    } catch (const std::exception&) {
      return std::nullopt;
    }
    if (used != part.size()) return std::nullopt;
  }
  return word.empty() ? std::nullopt : std::optional(total);
}

unsigned count_at(const Words& words, size_t k, unsigned most) {
  const auto n = k < words.size() ? number(words[k]) : std::nullopt;
  return n && *n > 0 && *n <= int64_t(most) ? static_cast<unsigned>(*n) : 0;
}

}  // namespace porphyry::bind
