#include "porphyry/base/source_text.h"

#include <algorithm>

namespace porphyry {

SourceText::SourceText(std::string name, std::string text) : name_(std::move(name)), text_(std::move(text)) {
  starts_.push_back(0);
  for (size_t end = text_.find('\n'); end != std::string::npos; end = text_.find('\n', end + 1))
    starts_.push_back(static_cast<uint32_t>(end + 1));
}

SourceText::Place SourceText::place(uint32_t offset) const {
  auto after = std::upper_bound(starts_.begin(), starts_.end(), offset);
  uint32_t line = static_cast<uint32_t>(after - starts_.begin());
  return {line, offset - starts_[line - 1] + 1};
}

std::string_view SourceText::line(uint32_t number) const {
  uint32_t from = starts_[number - 1];
  size_t to = number < starts_.size() ? starts_[number] - 1 : text_.size();
  if (to > from && text_[to - 1] == '\r') --to;
  return std::string_view(text_).substr(from, to - from);
}

Diagnostic SourceText::at(uint32_t offset, uint32_t length, std::string message, std::string expected) const {
  constexpr size_t window = 200;
  Diagnostic d;
  Place where = place(std::min<uint32_t>(offset, static_cast<uint32_t>(text_.size())));
  std::string_view whole = line(where.line);
  size_t cut = 0;
  if (whole.size() > window && where.column > window / 2)
    cut = std::min<size_t>(where.column - 1 - window / 2, whole.size() - window);
  whole.remove_prefix(cut);
  d.file = name_;
  d.line = where.line;
  d.column = where.column;
  d.length = std::max<uint32_t>(length, 1);
  d.message = std::move(message);
  d.expected = std::move(expected);
  d.excerpt = std::string(whole.substr(0, window));
  d.mark = static_cast<uint32_t>(where.column - 1 - cut);
  return d;
}

}  // namespace porphyry
