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

// A diagnostic that shows a whole line of a book.
Diagnostic about_line(const SourceText& source, const Line& line, std::string message, std::string expected);

// Splits into entries and repeats them. A line `becomes` in the first column belongs to the rule above it.
std::vector<Entry> gather_entries(const SourceText& source, Diagnostics& problems);

// The words of a line. Asking for one that is not there gives an empty word, so that readers of half-written
// lines find something wrong instead of nothing at all.
class Words : public std::vector<std::string> {
 public:
  using std::vector<std::string>::vector;
  const std::string& operator[](size_t k) const {
    return k < size() ? *(begin() + static_cast<ptrdiff_t>(k)) : none();
  }
  const std::string& front() const { return (*this)[0]; }

 private:
  static const std::string& none() {
    static const std::string empty;
    return empty;
  }
};

// Words of a line; the marks , : = [ ] * + - stand alone, numbers with their sign and type stay whole.
Words words(const std::string& text);

// What follows the first word.
std::string after_first_word(const std::string& text);

// A number in decimal or hex, or a sum of such.
std::optional<int64_t> number(const std::string& word);
// The number that a word of a line is, from 1 to `most`; 0 where it is none of them, or there is no such
// word.
unsigned count_at(const Words& words, size_t k, unsigned most);

}  // namespace porphyry::bind
