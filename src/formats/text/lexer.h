// Tokens of the text form: one flat vector, made in one pass.
#pragma once

#include <cstdint>
#include <vector>

#include "porphyry/base/source_text.h"

namespace porphyry::text {

enum class TokenKind : uint8_t { Name, Quoted, Integer, Real, Mark, LineEnd, End };

struct Token {
  TokenKind kind;
  char mark = 0;  // the character of a Mark; '>' stands for "->"
  uint32_t offset;
  uint32_t length;
};

struct LoneComment {  // a comment on a line of its own
  uint32_t offset;
  std::string text;
};

struct Tokens {
  static constexpr size_t ends = 4;  // so many End close the list: looking ahead asks for no end

  std::vector<Token> list;          // ends with LineEnd, End, …
  std::vector<uint32_t> labels;     // first tokens of lines that begin as labels do: a name, then ':' or '('
  std::vector<uint32_t> body_ends;  // first tokens of lines that end a body: '}', or func and a name
  std::vector<LoneComment> comments;
  Diagnostics problems;
};

Tokens tokenize(const SourceText& source);

// The characters a quoted token stands for.
std::string unquoted(std::string_view with_quotes);

}  // namespace porphyry::text
