// A place in the tokens, with the small steps every reader needs. Expectations that fail are noted as
// diagnostics; nothing throws.
#pragma once

#include <optional>
#include <string>

#include "lexer.h"
#include "porphyry/print/literals.h"

namespace porphyry::text {

class Cursor {
 public:
  Cursor(const SourceText& source, const std::vector<Token>& tokens, Diagnostics& problems)
      : source_(&source), first_(tokens.data()), at_(first_), problems_(&problems) {}

  size_t index() const { return static_cast<size_t>(at_ - first_); }
  void go_to(size_t index) { at_ = first_ + index; }
  // `ahead` is below Tokens::ends.
  const Token& peek(size_t ahead = 0) const { return at_[ahead]; }
  const Token& take() {
    const Token& t = *at_;
    at_ += t.kind != TokenKind::End;
    return t;
  }
  std::string_view text(const Token& t) const { return {source_->text().data() + t.offset, t.length}; }
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
  bool expect(char c, std::string_view where) { return accept(c) || miss(c, where); }
  bool miss(char c, std::string_view where) {
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
    return plain(take());
  }
  // The name that a token stands for.
  std::string plain(const Token& t) const {
    return t.kind == TokenKind::Quoted ? unquoted(text(t)) : std::string(text(t));
  }
  // A whole number from 0 to `limit`, when one stands here.
  std::optional<uint64_t> number(uint64_t limit) {
    if (peek().kind != TokenKind::Integer) return std::nullopt;
    auto bits = integer_bits(text(), Type::integer(64));
    if (!bits || *bits > limit || text().front() == '-') return std::nullopt;
    take();
    return static_cast<uint64_t>(*bits);
  }
  // A power of two from 1 to `limit`.
  std::optional<uint32_t> alignment(uint64_t limit) {
    const Token& t = peek();
    auto n = number(limit);
    if (n && *n && (*n & (*n - 1)) == 0) return static_cast<uint32_t>(*n);
    complain(t, "this alignment is not a power of two up to " + std::to_string(limit), "1, 2, 4, 8, …");
    return std::nullopt;
  }
  // Whether looking for names like a wrong one is worth the time: not when there are mistakes without end.
  bool may_suggest() const { return problems_->size() < 50; }
  std::string_view span(const Token& first, const Token& last) const {
    return source_->text().substr(first.offset, last.offset + last.length - first.offset);
  }
  const Token& previous() const { return at_[at_ == first_ ? 0 : -1]; }
  void skip_to_line_end() {
    while (!at_line_end()) take();
  }
  void skip_line() {
    skip_to_line_end();
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
    if (problems_->size() >= problem_limit) return tell_of_more(t);
    std::string found = t.kind == TokenKind::LineEnd ? " (the line ends)"
                        : t.kind == TokenKind::End   ? " (the file ends)"
                                                     : "";
    problems_->push_back(source_->at(t.offset, t.kind == TokenKind::LineEnd ? 1 : t.length, message + found,
                                     std::move(expected)));
  }

 private:
  // Enough to act on; a file that is no program at all would give as many as it has lines.
  static constexpr size_t problem_limit = 1000;

  void tell_of_more(const Token& t) {
    if (problems_->size() == problem_limit)
      problems_->push_back(source_->at(t.offset, 1, "more mistakes follow this one",
                                       "a file with fewer: the first 1000 are told"));
  }

  const SourceText* source_;
  const Token *first_, *at_;
  Diagnostics* problems_;
};

}  // namespace porphyry::text
