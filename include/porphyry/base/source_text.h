// A text with its name and line starts: offsets to lines and columns in O(log lines). Views of it are valid
// while it lives and is not moved.
#pragma once

#include <string>
#include <string_view>
#include <vector>

#include "porphyry/base/diagnostics.h"

namespace porphyry {

class SourceText {
 public:
  SourceText(std::string name, std::string text);

  const std::string& name() const { return name_; }
  std::string_view text() const { return text_; }

  struct Place {
    uint32_t line, column;  // both from 1
  };
  Place place(uint32_t offset) const;            // of an offset of the text, its end included
  std::string_view line(uint32_t number) const;  // from 1 up to the last one, without the line end

  // A diagnostic that marks `length` bytes from `offset`. Excerpts of very long lines are cut to a window
  // around the mark; the column stays that of the file.
  Diagnostic at(uint32_t offset, uint32_t length, std::string message, std::string expected) const;

 private:
  std::string name_;
  std::string text_;
  std::vector<uint32_t> starts_;
};

}  // namespace porphyry
