#include "lexer.h"

#include <fmt/format.h>

namespace porphyry::text {
namespace {

bool is_letter(char c) { return (c >= 'a' && c <= 'z') || (c >= 'A' && c <= 'Z') || c == '_'; }
bool is_digit(char c) { return c >= '0' && c <= '9'; }
bool is_word(char c) { return is_letter(c) || is_digit(c); }

class Lexer {
 public:
  explicit Lexer(const SourceText& source) : source_(source), text_(source.text()) {}

  Tokens run() {
    out_.list.reserve(text_.size() / 4 + 2);
    while (at_ < text_.size()) step();
    line_end(text_.size());
    out_.list.push_back({TokenKind::End, 0, static_cast<uint32_t>(text_.size()), 0});
    return std::move(out_);
  }

 private:
  char peek(size_t ahead = 0) const { return at_ + ahead < text_.size() ? text_[at_ + ahead] : '\0'; }

  void add(TokenKind kind, size_t from, char mark = 0) {
    out_.list.push_back({kind, mark, static_cast<uint32_t>(from), static_cast<uint32_t>(at_ - from)});
    line_is_fresh_ = false;
  }

  void line_end(size_t offset) {
    if (!out_.list.empty() && out_.list.back().kind != TokenKind::LineEnd)
      out_.list.push_back({TokenKind::LineEnd, 0, static_cast<uint32_t>(offset), 1});
  }

  void step() {
    char c = peek();
    if (c == '\n') {
      ++at_;
      line_is_fresh_ = true;
      if (depth_ > 0 && starts_an_item()) depth_ = 0;  // a bracket was forgotten above
      if (depth_ == 0) line_end(at_ - 1);
      return;
    }
    if (c == ' ' || c == '\t' || c == '\r') {
      ++at_;
      return;
    }
    if (c == '-' && peek(1) == '-') return comment();
    size_t from = at_;
    if (is_letter(c)) return word(from);
    if (is_digit(c) || (c == '-' && is_digit(peek(1)))) return number(from);
    if (c == '-' && (text_.substr(at_ + 1, 3) == "inf" || text_.substr(at_ + 1, 3) == "nan")) {
      ++at_;
      return word(from);
    }
    if (c == '"') return quote(from);
    mark(from, c);
  }

  // Whether a top-level item begins here: a word for one, then a name. Ends brackets left open by mistake.
  bool starts_an_item() const {
    for (std::string_view word : {"func ", "data ", "extern ", "local ", "module ", "source "})
      if (text_.substr(at_, word.size()) == word &&
          (is_letter(peek(word.size())) || peek(word.size()) == '"'))
        return true;
    return false;
  }

  void comment() {
    size_t from = at_;
    while (at_ < text_.size() && peek() != '\n') ++at_;
    size_t to = at_;
    while (to > from && (text_[to - 1] == ' ' || text_[to - 1] == '\r' || text_[to - 1] == '\t')) --to;
    if (line_is_fresh_)
      out_.comments.push_back({static_cast<uint32_t>(from), std::string(text_.substr(from, to - from))});
  }

  // Dots join words (lt.s, bytes.reverse) when a letter follows.
  void word(size_t from) {
    while (is_word(peek()) || (peek() == '.' && is_letter(peek(1)))) ++at_;
    add(TokenKind::Name, from);
  }

  void number(size_t from) {
    if (peek() == '-') ++at_;
    bool hex = peek() == '0' && (peek(1) == 'x' || peek(1) == 'X');
    bool real = false;
    if (hex) at_ += 2;
    for (;; ++at_) {
      char c = peek();
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
    if ((c == ')' || c == ']') && depth_ > 0) --depth_;
    static constexpr std::string_view known = "()[]{}:,=+-*@;";
    if (known.find(c) == std::string_view::npos) {
      while (at_ < text_.size() && static_cast<unsigned char>(text_[at_]) >= 0x80) ++at_;
      if (out_.problems.size() < 100)
        out_.problems.push_back(source_.at(static_cast<uint32_t>(from), static_cast<uint32_t>(at_ - from),
                                           "this character has no meaning here",
                                           "a name, a number or one of ( ) [ ] { } : , = + - * @ ;"));
      return;
    }
    add(TokenKind::Mark, from, c);
  }

  const SourceText& source_;
  std::string_view text_;
  size_t at_ = 0;
  int depth_ = 0;
  bool line_is_fresh_ = true;
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
      out += static_cast<char>(std::stoi("0" + std::string(body.substr(i + 1, 2)), nullptr, 16));
      i += 2;
    } else
      out += c;
  }
  return out;
}

std::string quoted(std::string_view plain) {
  std::string out = "\"";
  for (char c : plain) {
    if (c == '\n')
      out += "\\n";
    else if (c == '\t')
      out += "\\t";
    else if (c == '\0')
      out += "\\0";
    else if (c == '"' || c == '\\')
      (out += '\\') += c;
    else if (static_cast<unsigned char>(c) < 0x20 || static_cast<unsigned char>(c) >= 0x7f)
      out += fmt::format("\\x{:02x}", static_cast<unsigned char>(c));
    else
      out += c;
  }
  return out + "\"";
}

}  // namespace porphyry::text
