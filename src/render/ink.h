// What text on terminals is made of: colours by meaning, and columns.
#pragma once

#include <string>
#include <vector>

namespace porphyry {

// Colours when they are on, by meaning: what the program does is plain; what carries values about is set
// back.
struct Ink {
  bool on;
  std::string operator()(const char* code, const std::string& text) const {
    return on && !text.empty() ? std::string("\x1b[") + code + "m" + text + "\x1b[0m" : text;
  }
};
inline constexpr const char *bold = "1", *faint = "90", *amber = "33", *teal = "36", *violet = "35",
                            *green = "32";

std::string padded(std::string text, size_t width);  // in characters, to the right

std::string as_markup(
    std::string_view text);  // with the letters that HTML and labels take for their own spelled out

// Rows of words in columns, two blanks between them; a column is as wide as its widest word. `right`: the
// columns, by letters 'l' and 'r', that end at the right; the last one that is named holds for the rest.
std::string columns(const std::vector<std::vector<std::string>>& rows, std::string_view sides);

}  // namespace porphyry
