// Entries of a book: a header line in the first column and the indented lines below it, repeated for every
// tuple of the `each` lines with `{word}` replaced.
#pragma once

#include <optional>
#include <string>
#include <vector>

#include "porphyry/base/source_text.h"

namespace porphyry::bind {

struct Line {
  std::string text;  // without comment and surrounding space, words put in
  uint32_t number;   // in the file
  uint32_t indent;
};

struct Entry {
  Line header;
  std::vector<Line> body;
};

// Splits into entries and repeats them. A line `becomes` in the first column belongs to the rule above it.
std::vector<Entry> gather_entries(const SourceText& source, Diagnostics& problems);

// Words of a line; the marks , : = [ ] * + - stand alone, numbers with their sign and type stay whole.
std::vector<std::string> words(const std::string& text);

// A number in decimal or hex, or a sum of such.
std::optional<int64_t> number(const std::string& word);

}  // namespace porphyry::bind
