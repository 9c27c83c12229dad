// Reads rules with one token of lookahead, and gives every term a class of types while it does: operations
// say which classes are one (union-find), which are the truths or the elements of another.
#include "porphyry/rewrite/read.h"

#include <fmt/format.h>

#include <bit>
#include <charconv>
#include <cmath>
#include <map>

#include "index.h"
#include "porphyry/ir/words.h"

namespace porphyry::rewrite {
namespace {

// Where a term stands: names begin in patterns, and computed terms are made of constants only.
enum class Use { Pattern, Replacement, Computed, Known };

class Reader {
 public:
  Reader(const SourceText& source, RuleBook& book) : source_(source), text_(source.text()), book_(book) {
    book.files.push_back(source.name());
  }

  Diagnostics run() {
    while (at_ < text_.size()) {
      size_t end = std::min(text_.find('\n', at_), text_.size());
      size_t indent = text_.find_first_not_of(' ', at_);
      if (indent >= end || text_.substr(indent, 2) == "--") {
        at_ = end + 1;
        continue;
      }
      // What is further in goes on with the sentence.
      for (size_t next = end + 1; next < text_.size();) {
        size_t letter = text_.find_first_not_of(' ', next);
        if (letter == text_.npos || letter - next <= 2 || text_[letter] == '\n') break;
        end = std::min(text_.find('\n', next), text_.size());
        next = end + 1;
      }
      sentence_.from = indent, sentence_.to = end, at_ = indent, wrong_ = false;
      next_token();
      if (indent - line_start(indent) >= 2)
        rule();
      else
        heading();
      if (!wrong_ && !token_.word.empty())
        complain("this does not belong to the sentence", "the end of the line");
      at_ = end + 1;
    }
    return std::move(problems_);
  }

 private:
  // ---- words ----------------------------------------------------------------------------------------------
  size_t line_start(size_t at) const {
    size_t before = at ? text_.rfind('\n', at - 1) : text_.npos;
    return before == text_.npos ? 0 : before + 1;
  }
  void next_token() {
    while (at_ < sentence_.to && (text_[at_] == ' ' || text_[at_] == '\n')) ++at_;
    if (text_.substr(at_, 2) == "--") at_ = sentence_.to;
    size_t from = at_;
    auto letter = [&](size_t k) {
      char c = text_[k];
      return std::isalnum(static_cast<unsigned char>(c)) || c == '.' || c == '_';
    };
    if (at_ < sentence_.to && text_[at_] == '-' && at_ + 1 < sentence_.to && letter(at_ + 1)) ++at_;
    while (at_ < sentence_.to && letter(at_)) ++at_;
    if (at_ == from && at_ < sentence_.to) ++at_;
    token_.word = text_.substr(from, at_ - from);
    token_.at = from;
  }
  bool accept(std::string_view word) { return token_.word == word ? (next_token(), true) : false; }
  bool expect(std::string_view word) {
    if (accept(word)) return true;
    complain(token_.word.empty() ? "the sentence ends here" : fmt::format("'{}' stands here", token_.word),
             fmt::format("'{}'", word));
    return false;
  }
  void complain(std::string message, std::string expected) {
    complain_at(token_.at, token_.word, std::move(message), std::move(expected));
  }
  void complain_at(size_t at, std::string_view word, std::string message, std::string expected) {
    if (wrong_) return;
    wrong_ = true;
    size_t length = std::max<size_t>(word.size(), 1);
    problems_.push_back(source_.at(static_cast<uint32_t>(at), static_cast<uint32_t>(length),
                                   std::move(message), std::move(expected)));
    token_.word = {};
    at_ = sentence_.to;
  }
  static bool is_small(std::string_view word) {
    return !word.empty() && std::islower(static_cast<unsigned char>(word[0]));
  }
  static bool is_capital(std::string_view word) {
    return !word.empty() && std::isupper(static_cast<unsigned char>(word[0]));
  }
  static bool is_number(std::string_view word) {
    return !word.empty() && std::isdigit(static_cast<unsigned char>(word[word[0] == '-' && word.size() > 1]));
  }
  std::string_view take() {
    std::string_view word = token_.word;
    next_token();
    return word;
  }

  // ---- headings -------------------------------------------------------------------------------------------
  void heading() {
    if (accept("cost")) return cost();
    if (!accept("for")) return complain("this begins no heading", "'for', 'cost', or a rule two spaces in");
    shapes_ = 0;
    do {
      uint8_t bits = shape_bits(token_.word);
      if (!bits) return complain("no values are called this", "integers, bools, floats, pointers");
      shapes_ |= bits;
      next_token();
    } while (accept(","));
  }
  static uint8_t shape_bits(std::string_view word) {
    if (word.ends_with('s')) word.remove_suffix(1);
    if (word == "integer") return 1 << static_cast<int>(Shape::Integer);
    if (word == "bool") return 1 << static_cast<int>(Shape::Bool);
    if (word == "float") return 1 << static_cast<int>(Shape::Float);
    if (word == "pointer") return 1 << static_cast<int>(Shape::Pointer);
    return 0;
  }
  void cost() {
    auto op = operation_named(token_.word);
    if (!op) return complain("no operation is called this", "an operation");
    next_token();
    auto row = static_cast<size_t>(*op);
    book_.weights[row] = static_cast<uint16_t>(whole(token_.word));
    next_token();
    if (accept("by")) book_.factors[row] = static_cast<uint16_t>(whole(token_.word)), next_token();
  }
  int64_t whole(std::string_view word) {
    bool negative = word.starts_with('-');
    std::string_view digits = word.substr(negative);
    int base = digits.starts_with("0x") ? 16 : 10;
    if (base == 16) digits.remove_prefix(2);
    uint64_t n = 0;
    auto [end, error] = std::from_chars(digits.data(), digits.data() + digits.size(), n, base);
    if (error != std::errc() || end != digits.data() + digits.size())
      complain("this is no number", "a number of 64 bits");
    return static_cast<int64_t>(negative ? -n : n);
  }

  // ---- rules ----------------------------------------------------------------------------------------------
  void rule() {
    names_.clear(), type_names_.clear();
    first_type_ = book_.types.size();
    parents_.clear();
    bindings_ = 0;
    size_t terms_before = book_.terms.size(), conditions_before = book_.conditions.size();
    Rule r;
    r.first_condition = static_cast<uint16_t>(conditions_before);
    r.file = static_cast<uint16_t>(book_.files.size() - 1);
    r.line = static_cast<uint16_t>(source_.place(static_cast<uint32_t>(sentence_.from)).line);
    r.shapes = shapes_;
    r.pattern = operation(Use::Pattern);
    if (!wrong_) expect("becomes");
    if (!wrong_) replacements(r);
    while (!wrong_ && (token_.word == "keeping" || token_.word == "where")) {
      if (accept("keeping"))
        r.keeps = words(promise_words(), "a promise");
      else
        next_token(), conditions();
    }
    if (!wrong_ && bindings_ > most_bindings)
      complain(fmt::format("the rule names {} values and constants", int(bindings_)),
               fmt::format("at most {}", most_bindings));
    if (wrong_) {
      book_.terms.resize(terms_before), book_.types.resize(first_type_);
      return book_.conditions.resize(conditions_before);
    }
    settle(terms_before, r);
    r.condition_count = static_cast<uint8_t>(book_.conditions.size() - conditions_before);
    r.binding_count = bindings_;
    book_.texts.push_back(sentence());
    r.text = book_.texts.back();
    book_.rules.push_back(r);
  }
  std::string sentence() const {
    std::string out;
    for (char c : text_.substr(sentence_.from, sentence_.to - sentence_.from)) {
      if (c == '\n') c = ' ';
      if (c != ' ' || (!out.empty() && out.back() != ' ')) out += c;
    }
    while (out.ends_with(' ')) out.pop_back();
    return out;
  }

  void replacements(Rule& r) {
    const Term root = book_.terms[r.pattern];
    unsigned count = std::max(1u, info(root.op).result_count());
    for (unsigned k = 0; k < count && !wrong_; ++k) {
      if (k && !expect(",")) return;
      if (accept("-")) {
        book_.conditions.push_back({ConditionKind::Unused, no_term, static_cast<uint8_t>(k)});
        continue;
      }
      uint8_t type = k == 0 ? root.type : second_type(root);
      auto op = operation_named(token_.word);
      r.becomes[k] =
          op && !names_.contains(token_.word) ? operation(Use::Replacement, type) : term(Use::Replacement);
      if (!wrong_) join(book_.terms[r.becomes[k]].type, type);
    }
  }
  uint8_t second_type(const Term& root) {
    return info(root.op).result == ResultRule::SameTruth ? related(Relation::TruthOf, root.type) : root.type;
  }

  void conditions() {
    do {
      if (token_.word == "{")
        book_.conditions.push_back({ConditionKind::Holds, braces(Use::Computed)});
      else if (accept("known"))
        book_.conditions.push_back({ConditionKind::Known, braces(Use::Known)});
      else if (is_small(token_.word))
        varies();
      else
        of_types();
    } while (!wrong_ && accept(","));
  }
  void varies() {
    auto name = names_.find(token_.word);
    if (name == names_.end()) return complain("nothing is called this", "a value of the pattern");
    next_token();
    expect("varies");
    book_.conditions.push_back({ConditionKind::Varies, no_term, book_.terms[name->second].binding});
  }
  void of_types() {
    uint8_t a = type_named();
    if (wrong_) return;
    if (accept("=")) return with_second(ConditionKind::Equal, a);
    if (accept("narrower")) return with_second(ConditionKind::Narrower, a);
    if (accept("wider")) {
      book_.conditions.push_back(
          {ConditionKind::Wider, no_term, a, static_cast<uint8_t>(whole(token_.word))});
      return next_token();
    }
    if (accept("not")) return expect("wider"), with_second(ConditionKind::NotWider, a);
    if (!expect("is")) return;
    uint8_t bits = shape_bits(token_.word);
    if (!bits) return complain("no values are called this", "integer, bool, float or pointer");
    next_token();
    book_.conditions.push_back({ConditionKind::IsShape, no_term, a, bits});
  }
  void with_second(ConditionKind kind, uint8_t a) {
    if (!wrong_) book_.conditions.push_back({kind, no_term, a, type_named()});
  }

  uint16_t braces(Use use) {
    if (!expect("{")) return no_term;
    uint16_t out = operation_named(token_.word) && !names_.contains(token_.word) ? operation(use) : term(use);
    if (!wrong_) expect("}");
    return out;
  }
  uint8_t words(std::span<const std::string_view> words, std::string_view what) {
    uint8_t bits = 0;
    do {
      auto bit = bit_of(token_.word, words);
      if (!bit) return complain("this is none", std::string(what)), bits;
      bits |= *bit;
      next_token();
      // A comma goes on with the list where another word of it follows.
    } while (token_.word == "," && bit_of(peek(), words) && (next_token(), true));
    return bits;
  }
  std::string_view peek() {
    size_t at = at_, token_at = token_.at;
    std::string_view now = token_.word;
    next_token();
    std::string_view out = token_.word;
    at_ = at, token_.at = token_at, token_.word = now;
    return out;
  }

  // ---- terms ----------------------------------------------------------------------------------------------
  uint16_t add(Term t) {
    book_.terms.push_back(t);
    return static_cast<uint16_t>(book_.terms.size() - 1);
  }

  uint16_t term(Use use) {
    if (wrong_) return no_term;
    if (accept("(")) {
      uint16_t out = operation(use);
      if (!wrong_) expect(")");
      return out;
    }
    if (token_.word == "{" && use == Use::Replacement) {
      uint16_t out = braces(Use::Computed);
      if (!wrong_) book_.terms[out].computed = true;
      return out;
    }
    Term t;
    t.type = fresh();
    if (use != Use::Pattern &&
        (token_.word == "width" || token_.word == "lowest" || token_.word == "highest"))
      return bound_number(t);
    if (is_number(token_.word) || token_.word == "inf" || token_.word == "-inf" || token_.word == "true" ||
        token_.word == "false")
      return literal(t);
    if (is_small(token_.word) || is_capital(token_.word)) return named(t, use);
    complain(token_.word.empty() ? "an operand is missing" : fmt::format("'{}' is no operand", token_.word),
             "a value, a constant, a number or '('");
    return no_term;
  }
  uint16_t bound_number(Term t) {
    std::string_view word = take();
    t.kind = word == "width" ? TermKind::Width : word == "lowest" ? TermKind::Least : TermKind::Most;
    t.computed = true;
    t.of_type = t.type;
    if (word == "width" && is_capital(token_.word)) t.of_type = type_named();
    return add(t);
  }
  uint16_t literal(Term t) {
    t.kind = TermKind::Literal;
    std::string_view word = take();
    if (word.find('.') != word.npos || word.ends_with("inf")) {
      double d = word == "inf" ? INFINITY : word == "-inf" ? -INFINITY : std::stod(std::string(word));
      t.is_real = true;
      t.number = std::bit_cast<int64_t>(d);
    } else {
      t.number = word == "true" ? -1 : word == "false" ? 0 : whole(word);
    }
    if (!wrong_ && accept(":")) join(t.type, type_named());
    return add(t);
  }
  uint16_t named(Term t, Use use) {
    const size_t word_at = token_.at;
    std::string_view word = take();
    t.kind = is_capital(word) ? TermKind::Constant : TermKind::Value;
    if (auto known = names_.find(word); known != names_.end()) {
      const Term& first = book_.terms[known->second];
      t.kind = first.kind == TermKind::Constant ? TermKind::Constant : TermKind::Value;
      t.binding = first.binding;
      t.type = first.type;
    } else if (use == Use::Pattern) {
      t.binding = bindings_++;
      names_[word] = static_cast<uint16_t>(book_.terms.size());
    } else {
      complain_at(word_at, word, fmt::format("nothing in the pattern is called '{}'", word),
                  "a name of the pattern");
    }
    if (use == Use::Computed && t.kind == TermKind::Value)
      complain_at(word_at, word, fmt::format("'{}' is no constant", word),
                  "what is computed here to be of constants");
    if (!wrong_ && accept(":")) join(t.type, type_named());
    return add(t);
  }
  uint8_t type_named() {
    if (!is_capital(token_.word)) return complain("this names no type", "a capital"), none;
    auto [place, made] = type_names_.try_emplace(take(), none);
    if (made) place->second = fresh();
    return place->second;
  }

  uint16_t operation(Use use, uint8_t stated = none) {
    if (wrong_) return no_term;
    auto op = operation_named(token_.word);
    if (!op || !info(*op).is_plain() || info(*op).layout == Layout::Shuffle) {
      complain(fmt::format("'{}' is no operation of rules", token_.word), "an operation that computes");
      return no_term;
    }
    next_token();
    Term t;
    t.kind = TermKind::Operation;
    t.op = *op;
    t.operand_count = static_cast<uint8_t>(info(*op).arity());
    t.type = fresh();
    t.computed = use == Use::Computed;
    if (info(info(*op).layout).stated) {
      if (is_capital(token_.word) && !next_is_end())
        join(t.type, type_named());
      else if (stated != none)
        join(t.type, stated);
      else if (use != Use::Pattern)
        complain("the type of the result is not stated", "a capital behind the operation");
    }
    for (unsigned k = 0; k < t.operand_count && !wrong_; ++k) {
      if (k) expect(",");
      t.operands[k] = term(use);
    }
    if (wrong_) return no_term;
    attributes(t, use);
    if (!wrong_) type_of_operation(t);
    return add(t);
  }
  // Whether a capital is all of the operation's operands: a constant, not a type.
  bool next_is_end() {
    std::string_view next = peek();
    return next == "," || next == ")" || next == "}" || next.empty() || next == "becomes" || next == ":";
  }
  void attributes(Term& t, Use use) {
    while (!wrong_) {
      if (accept("promise")) {
        t.promises |= words(promise_words(), "a promise");
      } else if (use == Use::Pattern && accept("permit")) {
        t.permits |= words(permit_words(), "a permit");
      } else if (use == Use::Pattern && accept("once")) {
        t.once = true;
      } else if (use == Use::Pattern && accept("as")) {
        std::string_view name = take();
        t.binding = bindings_++;
        names_[name] = static_cast<uint16_t>(book_.terms.size());
      } else {
        return;
      }
    }
  }

  // ---- classes of types -----------------------------------------------------------------------------------
  uint8_t fresh() {
    book_.types.push_back({});
    parents_.push_back(static_cast<uint8_t>(parents_.size()));
    return static_cast<uint8_t>(parents_.size() - 1);
  }
  uint8_t find(uint8_t c) const {
    while (parents_[c] != c) c = parents_[c];
    return c;
  }
  TypeClass& row(uint8_t c) { return book_.types[first_type_ + c]; }
  void join(uint8_t a, uint8_t b) {
    if (wrong_ || a == none || b == none) return;
    a = find(a), b = find(b);
    if (a == b) return;
    TypeClass x = row(a), y = row(b);
    parents_[b] = a;
    // Two relations of one class say nothing of what they relate to: bools of different numbers.
    if (x.relation == Relation::Free) row(a) = y;
    // The truths of bools are bools.
    if (row(a).relation == Relation::TruthOf && find(row(a).of) == a) row(a) = {};
  }
  uint8_t related(Relation relation, uint8_t of) {
    uint8_t out = fresh();
    row(out) = {relation, of};
    return out;
  }
  void relate(uint8_t c, Relation relation, uint8_t of) { join(c, related(relation, of)); }

  void type_of_operation(const Term& t) {
    const OperationInfo& op = info(t.op);
    std::string_view roles = op.roles();
    uint8_t same = none, lanes = none;
    for (unsigned k = 0; k < t.operand_count; ++k) {
      uint8_t type = book_.terms[t.operands[k]].type;
      switch (static_cast<OperandRole>(roles[k])) {
        case OperandRole::Same: same == none ? void(same = type) : join(same, type); break;
        case OperandRole::Lanes: lanes == none ? void(lanes = type) : join(lanes, type); break;
        case OperandRole::Element:
          relate(type, Relation::ElementOf, op.layout == Layout::Splat ? t.type : lanes);
          break;
        default: break;
      }
    }
    // The condition of a pick is meant lane by lane.
    for (unsigned k = 0; k < t.operand_count; ++k) {
      auto role = static_cast<OperandRole>(roles[k]);
      if (role == OperandRole::Truth || role == OperandRole::Condition)
        relate(book_.terms[t.operands[k]].type, Relation::TruthOf, same);
    }
    switch (op.result) {
      case ResultRule::Same:
      case ResultRule::SameTwice:
      case ResultRule::SameTruth: join(t.type, same != none ? same : lanes); break;
      case ResultRule::Truth: relate(t.type, Relation::TruthOf, same); break;
      case ResultRule::Element: relate(t.type, Relation::ElementOf, lanes); break;
      case ResultRule::Doubled: relate(t.type, Relation::DoubledOf, lanes); break;
      default: break;
    }
  }

  // Terms and conditions name the classes that are left, and each of those is known from the pattern.
  void settle(size_t first_term, Rule& r) {
    std::vector<uint8_t> number(parents_.size(), none);
    std::vector<TypeClass> kept;
    std::vector<uint8_t> used(parents_.size());
    auto use = [&](uint8_t c) {
      for (; c != none && !used[find(c)]; c = row(find(c)).of) used[find(c)] = 1;
    };
    for (size_t k = first_term; k < book_.terms.size(); ++k)
      use(book_.terms[k].type), use(book_.terms[k].of_type);
    for (uint8_t c = 0; c < parents_.size(); ++c)
      if (used[c]) number[c] = static_cast<uint8_t>(kept.size()), kept.push_back(row(c));
    auto renamed = [&](uint8_t& c) {
      if (c != none) c = number[find(c)];
    };
    for (TypeClass& c : kept) renamed(c.of);
    for (size_t k = first_term; k < book_.terms.size(); ++k)
      renamed(book_.terms[k].type), renamed(book_.terms[k].of_type);
    for (size_t k = r.first_condition; k < book_.conditions.size(); ++k) {
      Condition& c = book_.conditions[k];
      if (c.kind == ConditionKind::Equal || c.kind == ConditionKind::Narrower ||
          c.kind == ConditionKind::NotWider)
        renamed(c.a), renamed(c.b);
      if (c.kind == ConditionKind::IsShape || c.kind == ConditionKind::Wider) renamed(c.a);
    }
    if (kept.size() > most_types)
      return complain("the rule has too many types", fmt::format("at most {}", most_types));
    book_.types.resize(first_type_);
    book_.types.insert(book_.types.end(), kept.begin(), kept.end());
    r.first_type = static_cast<uint16_t>(first_type_);
    r.type_count = static_cast<uint8_t>(kept.size());
    std::vector<uint8_t> known(kept.size());
    mark_known(r.pattern, known);
    for (bool more = true; more;) {
      more = false;
      for (size_t k = 0; k < kept.size(); ++k)
        if (!known[k] && kept[k].relation != Relation::Free && known[kept[k].of]) known[k] = more = true;
    }
    for (size_t k = first_term; k < book_.terms.size(); ++k)
      if (!known[book_.terms[k].type])
        return complain("the type of a number does not follow from the pattern", "a type behind it, ':T'");
  }
  void mark_known(uint16_t term, std::vector<uint8_t>& known) const {
    const Term& t = book_.terms[term];
    known[t.type] = 1;
    for (unsigned k = 0; k < t.operand_count; ++k) mark_known(t.operands[k], known);
  }

  const SourceText& source_;
  std::string_view text_;
  RuleBook& book_;
  Diagnostics problems_;
  size_t at_ = 0;
  struct {
    size_t from = 0, to = 0;
  } sentence_;
  struct {
    std::string_view word;
    size_t at = 0;
  } token_;
  bool wrong_ = false;  // the sentence: reported, and read no further
  uint8_t shapes_ = 0xff;
  // Of the rule that is being read.
  std::map<std::string_view, uint16_t> names_;  // the first term of each
  std::map<std::string_view, uint8_t> type_names_;
  std::vector<uint8_t> parents_;
  size_t first_type_ = 0;
  uint8_t bindings_ = 0;
};

}  // namespace

Result<RuleBook> read_rules(std::span<const SourceText> files) {
  RuleBook book;
  Diagnostics problems;
  for (const SourceText& file : files)
    for (Diagnostic& d : Reader(file, book).run()) problems.push_back(std::move(d));
  if (!problems.empty()) return problems;
  for (const std::string& name : book.files) book.file_names.push_back(name);
  add_index(book);
  return book;
}

}  // namespace porphyry::rewrite
