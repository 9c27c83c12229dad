#include "ink.h"

#include <algorithm>

namespace porphyry {
namespace {

// Characters, not bytes; colours take no room.
size_t width_of(std::string_view text) {
  size_t out = 0;
  for (size_t k = 0; k < text.size(); ++k) {
    if (text[k] == '\x1b') {
      k = std::min(text.find('m', k), text.size());
      continue;
    }
    out += (static_cast<unsigned char>(text[k]) & 0xc0) != 0x80;
  }
  return out;
}

}  // namespace

std::string padded(std::string text, size_t width) {
  if (size_t now = width_of(text); now < width) text.append(width - now, ' ');
  return text;
}

std::string as_markup(std::string_view text) {
  std::string out;
  for (char c : text)
    if (c == '&')
      out += "&amp;";
    else if (c == '<')
      out += "&lt;";
    else if (c == '>')
      out += "&gt;";
    else if (c == '"')
      out += "&quot;";
    else
      out += c;
  return out;
}

std::string columns(const std::vector<std::vector<std::string>>& rows, std::string_view sides) {
  std::vector<size_t> widths;
  for (const auto& row : rows)
    for (size_t k = 0; k < row.size(); ++k) {
      if (k == widths.size()) widths.push_back(0);
      widths[k] = std::max(widths[k], width_of(row[k]));
    }
  std::string out;
  for (const auto& row : rows) {
    std::string line;
    for (size_t k = 0; k < row.size(); ++k) {
      if (k) line += "  ";
      bool right = sides[std::min(k, sides.size() - 1)] == 'r';
      line += right ? std::string(widths[k] - width_of(row[k]), ' ') + row[k] : padded(row[k], widths[k]);
    }
    line.erase(line.find_last_not_of(' ') + 1);
    out += line + "\n";
  }
  return out;
}

}  // namespace porphyry
