// Reads rules: one token of look-ahead, one function a level of binding.
#include <cctype>
#include <cstdlib>

#include "tree.h"

namespace rules {
namespace {

using porphyry::Diagnostics;
using porphyry::SourceText;

class Parser {
 public:
  explicit Parser(const SourceText& source) : source_(source), text_(source.text()) { next(); }

  porphyry::Result<std::shared_ptr<Program>> run() {
    auto program = std::make_shared<Program>();
    while (!word_.empty() || at_ < text_.size()) {
      size_t before = problems_.size();
      definition(*program);
      if (problems_.size() > before) skip_to_next_line();
    }
    if (!problems_.empty()) return problems_;
    return program;
  }

 private:
  // ---- words
  // -------------------------------------------------------------------------------------------------

  void next() {
    for (;;) {
      while (at_ < text_.size() && std::isspace(static_cast<unsigned char>(text_[at_])))
        line_ += text_[at_++] == '\n';
      if (text_.substr(at_, 2) != "--") break;
      while (at_ < text_.size() && text_[at_] != '\n') ++at_;
    }
    size_t from = at_;
    auto is_word = [&](char c) {
      return std::isalnum(static_cast<unsigned char>(c)) || c == '_' || c == '.';
    };
    if (at_ < text_.size() && is_word(text_[at_]))
      while (at_ < text_.size() && is_word(text_[at_])) ++at_;
    else if (at_ < text_.size())
      ++at_;
    word_ = text_.substr(from, at_ - from);
    place_ = {static_cast<uint32_t>(from), static_cast<uint32_t>(at_ - from)};
  }
  bool accept(std::string_view word) { return word_ == word ? (next(), true) : false; }
  bool expect(std::string_view word) {
    return accept(word) || (complain("'" + std::string(word) + "' is missing", std::string(word)), false);
  }
  bool at_name() const { return !word_.empty() && std::isalpha(static_cast<unsigned char>(word_[0])); }
  std::string name(const char* what) {
    if (!at_name()) return complain(std::string("a name is missing"), what), "";
    std::string out(word_);
    next();
    return out;
  }
  void complain(std::string message, std::string expected) {
    if (problems_.size() < 50)
      problems_.push_back(source_.at(place_.offset, place_.length, std::move(message), std::move(expected)));
  }
  void skip_to_next_line() {
    for (int line = line_; line_ == line && !word_.empty();) next();
  }

  // ---- definitions
  // -------------------------------------------------------------------------------------------

  void definition(Program& program) {
    Definition d{};
    d.place = place_;
    if (accept("reading")) {
      d.kind = Definition::Reading;
      d.name = name("the reading's name");
      expect("in");
      d.unit = name("a unit: C, percent or minutes");
    } else if (accept("let")) {
      d.kind = Definition::Let;
      d.name = name("the threshold's name");
      expect("=");
      d.body = either();
    } else if (accept("alarm")) {
      d.kind = Definition::Alarm;
      d.name = name("the alarm's name");
      expect("when");
      d.body = either();
    } else {
      d.kind = Definition::Function;
      d.name = name("reading, let, alarm, or a function's name");
      if (!expect("(")) return;
      while (at_name()) {
        std::string parameter = name("a parameter");
        d.parameters.push_back({parameter, name("its unit")});
        if (!accept(",")) break;
      }
      expect(")");
      expect("=");
      d.body = either();
    }
    program.definitions.push_back(std::move(d));
  }

  // ---- expressions
  // -------------------------------------------------------------------------------------------

  using Tree = std::unique_ptr<Node>;

  Tree make(NodeKind kind, std::string text, Place place) {
    auto n = std::make_unique<Node>();
    n->kind = kind, n->text = std::move(text), n->place = place;
    return n;
  }
  // The operators of a level, from the left; arithmetic that begins a line begins another rule's.
  Tree chain(Tree (Parser::*operand)(), std::initializer_list<std::string_view> operators) {
    if (++depth_ > 500)
      return complain("this is nested too deep", "fewer brackets"), --depth_,
             make(NodeKind::Number, "", place_);
    Tree left = (this->*operand)();
    for (bool more = true; more;) {
      more = false;
      for (std::string_view op : operators) {
        if (word_ != op) continue;
        Tree node = make(NodeKind::Binary, std::string(op), place_);
        next();
        node->children.push_back(std::move(left));
        node->children.push_back((this->*operand)());
        left = std::move(node);
        more = true;
        break;
      }
    }
    --depth_;
    return left;
  }
  Tree either() { return chain(&Parser::both, {"or"}); }
  Tree both() { return chain(&Parser::comparison, {"and"}); }
  Tree comparison() {
    if (word_ == "not") {
      Tree node = make(NodeKind::Not, "not", place_);
      next();
      if (++depth_ > 500)
        return complain("this is nested too deep", "fewer brackets"), --depth_, std::move(node);
      node->children.push_back(comparison());
      --depth_;
      return node;
    }
    return chain(&Parser::sum, {"<", ">"});
  }
  Tree sum() { return chain(&Parser::product, {"+", "-"}); }
  Tree product() { return chain(&Parser::single, {"*", "/"}); }

  Tree single() {
    Place place = place_;
    if (accept("(")) {
      Tree inside = either();
      expect(")");
      return inside;
    }
    if (!word_.empty() && (std::isdigit(static_cast<unsigned char>(word_[0])) || word_ == "-")) {
      bool minus = accept("-");
      Tree n = make(NodeKind::Number, std::string(word_), place);
      n->number = std::strtod(n->text.c_str(), nullptr) * (minus ? -1 : 1);
      next();
      if (word_ == "C" || word_ == "percent" || word_ == "minutes") n->unit = word_, next();
      return n;
    }
    std::string text = name("a number, a name or (");
    if (text == "lowest" || text == "highest" || text == "mean" || text == "rise") {
      Tree n = make(NodeKind::Window, text, place);
      n->children.push_back(make(NodeKind::Name, "", place_));
      n->children[0]->text = name("a reading");
      expect("over");
      n->number = std::strtod(std::string(word_).c_str(), nullptr);
      if (n->number < 10) complain("a window is ten minutes at least", "20 minutes");
      next();
      expect("minutes");
      return n;
    }
    Tree n = make(NodeKind::Name, text, place);
    if (!accept("(")) return n;
    n->kind = NodeKind::Call;
    while (word_ != ")" && !word_.empty()) {
      n->children.push_back(either());
      if (!accept(",")) break;
    }
    expect(")");
    return n;
  }

  const SourceText& source_;
  std::string_view text_, word_;
  size_t at_ = 0;
  int line_ = 1, depth_ = 0;
  Place place_;
  Diagnostics problems_;
};

}  // namespace

porphyry::Result<std::shared_ptr<Program>> parse(const SourceText& source) { return Parser(source).run(); }

}  // namespace rules
