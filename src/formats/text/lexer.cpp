#include "lexer.h"

#include <fmt/format.h>

#include <array>
#include <charconv>

#include "porphyry/ir/type.h"

namespace porphyry::text {
namespace {

// What a character may be part of, by its code.
enum : uint8_t { letter = 1, digit = 2, blank = 4, sign = 8 };
constexpr auto classes = [] {
  std::array<uint8_t, 256> out{};
  for (int c = 'a'; c <= 'z'; ++c)
    out[static_cast<size_t>(c)] = letter, out[static_cast<size_t>(c - 32)] = letter;
  out['_'] = letter;
  for (int c = '0'; c <= '9'; ++c) out[static_cast<size_t>(c)] = digit;
  out[' '] = out['\t'] = out['\r'] = blank;
  for (char c : std::string_view("()[]{}:,=+-*@;.")) out[static_cast<size_t>(c)] = sign;
  return out;
}();
bool is(char c, uint8_t which) { return classes[static_cast<unsigned char>(c)] & which; }
bool is_letter(char c) { return is(c, letter); }
bool is_digit(char c) { return is(c, digit); }
bool is_word(char c) { return is(c, letter | digit); }

constexpr std::string_view item_words[] = {"func ",    "data ",   "extern ", "local ", "weak ",
                                           "section ", "module ", "source ", "kinds "};

class Lexer {
 public:
  explicit Lexer(const SourceText& source) : source_(source), text_(source.text()) {}

  Tokens run() {
    // Most texts have a token for each two to three characters; room that is not used is never touched.
    out_.list.reserve(text_.size() / 2 + 64);
    while (at_ < text_.size()) step();
    line_end(text_.size());
    for (size_t k = 0; k < Tokens::ends; ++k)
      push({TokenKind::End, 0, static_cast<uint32_t>(text_.size()), 0});
    return std::move(out_);
  }

 private:
  // The text ends with a zero, which ends every run of characters; so the one behind a character that is none
  // can be looked at without asking for the end.
  char peek(size_t ahead = 0) const { return text_.data()[at_ + ahead]; }

  void push(const Token& t) { out_.list.push_back(t); }
  void add(TokenKind kind, size_t from, char mark = 0) {
    push({kind, mark, static_cast<uint32_t>(from), static_cast<uint32_t>(at_ - from)});
  }
  const Token& line_head() const { return out_.list[line_token_]; }

  void line_end(size_t offset) {
    size_t count = out_.list.size();
    if (line_token_ == count) return;  // a line without tokens
    const Token& head = line_head();
    if (line_token_ + 1 < count) {
      const Token& second = out_.list[line_token_ + 1];
      bool named = head.kind == TokenKind::Name || head.kind == TokenKind::Quoted;
      if (named && (second.mark == ':' || second.mark == '('))
        out_.labels.push_back(static_cast<uint32_t>(line_token_));
      if (second.kind <= TokenKind::Quoted && text_.substr(head.offset, head.length) == "func")
        out_.body_ends.push_back(static_cast<uint32_t>(line_token_));
    }
    if (head.mark == '}') out_.body_ends.push_back(static_cast<uint32_t>(line_token_));
    push({TokenKind::LineEnd, 0, static_cast<uint32_t>(offset), 1});
    line_token_ = count + 1;
  }

  void step() {
    while (is(peek(), blank)) ++at_;
    char c = peek();
    size_t from = at_;
    if (is_letter(c)) return word(from);
    if (c == '\n') return new_line();
    if (is_digit(c)) return number(from);
    if (c == '-') {
      if (peek(1) == '-') return comment();
      if (is_digit(peek(1))) return number(from);
      if (std::string_view next = text_.substr(at_ + 1, 3); next == "inf" || next == "nan") {
        ++at_;
        return word(from);
      }
    }
    if (c == '"') return quote(from);
    if (at_ < text_.size()) mark(from, c);
  }

  void new_line() {
    ++at_;
    // An item begins in the first column: a bracket or brace was forgotten above.
    if ((depth_ > 0 || in_body_) && is_letter(peek()) && starts_an_item()) depth_ = 0, in_body_ = false;
    if (depth_ == 0) line_end(at_ - 1);
  }

  // Whether a top-level item begins here: a word for one, then a name.
  bool starts_an_item() const {
    for (std::string_view word : item_words)
      if (peek() == word.front() && text_.substr(at_, word.size()) == word &&
          (is_letter(peek(word.size())) || peek(word.size()) == '"'))
        return true;
    return false;
  }

  void comment() {
    size_t from = at_;
    at_ = std::min(text_.find('\n', from), text_.size());
    size_t to = at_, before = from;
    while (is(text_[to - 1], blank)) --to;
    while (before > 0 && is(text_[before - 1], blank)) --before;
    if (before == 0 || text_[before - 1] == '\n')  // it has its line for itself
      out_.comments.push_back({static_cast<uint32_t>(from), std::string(text_.substr(from, to - from))});
  }

  // Dots join words (lt.s, orchard.Night.wet) when a letter follows; a number of lanes belongs to its type.
  void word(size_t from) {
    const char* at = text_.data() + at_;
    do ++at;
    while (is_word(*at) || (*at == '.' && is_letter(at[1])));
    at_ = static_cast<size_t>(at - text_.data());
    if (*at == '[' && is_digit(at[1]) && Type::named(text_.substr(from, at_ - from))) {
      size_t end = at_ + 1;
      while (end < text_.size() && is_digit(text_[end])) ++end;
      if (end < text_.size() && text_[end] == ']') at_ = end + 1;
    }
    add(TokenKind::Name, from);
  }

  void number(size_t from) {
    if (peek() == '-') ++at_;
    bool hex = peek() == '0' && (peek(1) == 'x' || peek(1) == 'X');
    bool real = false;
    if (hex) at_ += 2;
    for (;; ++at_) {
      char c = peek();
      if (is_digit(c)) continue;
      if (c == '.' && is_letter(peek(1)) && !hex) break;
      bool exponent = hex ? c == 'p' || c == 'P' : c == 'e' || c == 'E';
      if (c == '.' || exponent) real = true;
      if (exponent && (peek(1) == '-' || peek(1) == '+')) {
        ++at_;
        continue;
      }
      if (!is_word(c) && c != '.') break;
    }
    add(real ? TokenKind::Real : TokenKind::Integer, from);
  }

  void quote(size_t from) {
    ++at_;
    while (at_ < text_.size() && peek() != '"' && peek() != '\n') at_ += peek() == '\\' ? 2 : 1;
    at_ = std::min(at_, text_.size());
    if (peek() == '"')
      ++at_;
    else
      out_.problems.push_back(source_.at(static_cast<uint32_t>(from), static_cast<uint32_t>(at_ - from),
                                         "this text in quotes does not end on its line", "a closing \""));
    add(TokenKind::Quoted, from);
  }

  void mark(size_t from, char c) {
    ++at_;
    if (c == '-' && peek() == '>') {
      ++at_;
      return add(TokenKind::Mark, from, '>');
    }
    if (c == '(' || c == '[') ++depth_;
    if (c == '{') opening_brace();
    if (c == ')' || c == ']' || c == '}') {
      if (depth_ > 0)
        --depth_;
      else if (c == '}')
        in_body_ = false;
    }
    if (!is(c, sign)) {
      while (at_ < text_.size() && static_cast<unsigned char>(text_[at_]) >= 0x80) ++at_;
      if (out_.problems.size() < 100)
        out_.problems.push_back(source_.at(static_cast<uint32_t>(from), static_cast<uint32_t>(at_ - from),
                                           "this character has no meaning here",
                                           "a name, a number or one of ( ) [ ] { } : , = + - * @ ;"));
      return;
    }
    add(TokenKind::Mark, from, c);
  }

  // A brace that ends the line of a function or of kinds opens a body, in which lines count; any other holds
  // a list, in which they do not.
  void opening_brace() {
    if (depth_ == 0 && !in_body_) {
      size_t head = line_token_ < out_.list.size() ? line_head().offset : at_ - 1;
      for (std::string_view word : {"func ", "local ", "weak ", "section ", "kinds "})
        if (text_.substr(head, word.size()) == word) {
          in_body_ = true;
          return;
        }
    }
    ++depth_;
  }

  const SourceText& source_;
  std::string_view text_;
  size_t at_ = 0;
  size_t depth_ = 0;       // of brackets and braces that hold lists
  size_t line_token_ = 0;  // the first one of the line
  bool in_body_ = false;
  Tokens out_;
};

}  // namespace

Tokens tokenize(const SourceText& source) { return Lexer(source).run(); }

std::string unquoted(std::string_view with_quotes) {
  std::string out;
  std::string_view body = with_quotes.substr(1);
  if (!body.empty() && body.back() == '"') body.remove_suffix(1);
  for (size_t i = 0; i < body.size(); ++i) {
    if (body[i] != '\\' || i + 1 == body.size()) {
      out += body[i];
      continue;
    }
    char c = body[++i];
    if (c == 'n')
      out += '\n';
    else if (c == 't')
      out += '\t';
    else if (c == '0')
      out += '\0';
    else if (c == 'x' && i + 2 < body.size()) {
      unsigned code = 0;
      std::from_chars(body.data() + i + 1, body.data() + i + 3, code, 16);
      out += static_cast<char>(code);
      i += 2;
    } else
      out += c;
  }
  return out;
}

}  // namespace porphyry::text
