// A place in the tokens, with the small steps every reader needs. Expectations that fail are noted as
// diagnostics; nothing throws.
#pragma once

#include <optional>
#include <string>

#include "lexer.h"

namespace porphyry::text {

class Cursor {
 public:
  Cursor(const SourceText& source, const std::vector<Token>& tokens, Diagnostics& problems)
      : source_(&source), tokens_(&tokens), problems_(&problems) {}

  size_t index() const { return at_; }
  void go_to(size_t index) { at_ = index; }
  const Token& peek(size_t ahead = 0) const {
    size_t i = at_ + ahead;
    return (*tokens_)[i < tokens_->size() ? i : tokens_->size() - 1];
  }
  const Token& take() {
    const Token& t = peek();
    if (at_ + 1 < tokens_->size()) ++at_;
    return t;
  }
  std::string_view text(const Token& t) const { return source_->text().substr(t.offset, t.length); }
  std::string_view text() const { return text(peek()); }

  bool at_mark(char c, size_t ahead = 0) const {
    return peek(ahead).kind == TokenKind::Mark && peek(ahead).mark == c;
  }
  bool at_word(std::string_view word) const { return peek().kind == TokenKind::Name && text() == word; }
  bool at_line_end() const { return peek().kind == TokenKind::LineEnd || peek().kind == TokenKind::End; }
  bool at_end() const { return peek().kind == TokenKind::End; }
  bool at_name(size_t ahead = 0) const {
    return peek(ahead).kind == TokenKind::Name || peek(ahead).kind == TokenKind::Quoted;
  }

  bool accept(char c) { return at_mark(c) ? (take(), true) : false; }
  bool accept_word(std::string_view word) { return at_word(word) ? (take(), true) : false; }
  bool expect(char c, std::string_view where) {
    if (accept(c)) return true;
    std::string sign = c == '>' ? "->" : std::string(1, c);
    complain("'" + sign + "' is missing " + std::string(where), "'" + sign + "'");
    return false;
  }
  // A plain or quoted name; empty when there is none.
  std::optional<std::string> name(std::string_view what) {
    if (!at_name()) {
      complain("a name is missing", std::string(what));
      return std::nullopt;
    }
    const Token& t = take();
    return t.kind == TokenKind::Quoted ? unquoted(text(t)) : std::string(text(t));
  }
  void skip_line() {
    while (!at_line_end()) take();
    if (!at_end()) take();
  }
  // The line must end here.
  void end_line() {
    if (!at_line_end()) complain("the line goes on where it should end", "the end of the line");
    skip_line();
  }

  void complain(std::string message, std::string expected) {
    complain(peek(), std::move(message), std::move(expected));
  }
  void complain(const Token& t, std::string message, std::string expected) {
    std::string found = t.kind == TokenKind::LineEnd ? " (the line ends)"
                        : t.kind == TokenKind::End   ? " (the file ends)"
                                                     : "";
    problems_->push_back(source_->at(t.offset, t.kind == TokenKind::LineEnd ? 1 : t.length, message + found,
                                     std::move(expected)));
  }

 private:
  const SourceText* source_;
  const std::vector<Token>* tokens_;
  Diagnostics* problems_;
  size_t at_ = 0;
};

}  // namespace porphyry::text
