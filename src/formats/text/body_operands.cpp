// Operands: values, literals, addresses, lists.
#include <algorithm>
#include <utility>

#include "body.h"

namespace porphyry::text {

bool OperandReader::at_operand() const {
  TokenKind k = cursor_.peek().kind;
  return k == TokenKind::Name || k == TokenKind::Quoted || k == TokenKind::Integer || k == TokenKind::Real ||
         cursor_.at_mark('{');
}

bool is_literal_word(std::string_view w) {
  if (w.size() > 5) return false;
  return w == "true" || w == "false" || w == "null" || w == "inf" || w == "nan" || w == "-inf" || w == "-nan";
}

std::string BodyPart::suggestion(std::string_view word, const std::vector<std::string>& names,
                                 std::string what) {
  std::string near = nearest(word, names);
  return near.empty() ? what : what + ", perhaps '" + near + "'";
}

void OperandReader::unknown_value(const Token& token, Name name) {
  std::vector<std::string> names;
  for (size_t k = 0; k < function_.value_limit() && cursor_.may_suggest(); ++k) {
    Name n = function_.name(Value(k));
    if (n.exists() && context_.names.has_value(n)) names.emplace_back(module_.text(n));
    if (names.size() > 5000) names.clear();
  }
  std::string word(module_.text(name));
  complain(token, "no value is called '" + word + "' here",
           suggestion(word, names, "a value that is defined above"));
}

// A number or a word such as nan; `nan(0x12)` is several tokens.
void OperandReader::literal(Written& w) {
  const Token& t = cursor_.take();
  w.literal = cursor_.text(t);
  if (!w.literal.ends_with("nan") || !cursor_.accept('(')) return;
  cursor_.take();
  if (!cursor_.expect(')', "after a nan's bits")) body_.good = w.good = false;
  w.literal = cursor_.span(t, cursor_.previous());
}

// {1, 2, 3, 4}
void OperandReader::lane_list(Written& w) {
  w.first_lane = static_cast<uint32_t>(body_.tables.lane_words.size());
  Token open = cursor_.take();
  while (!cursor_.at_mark('}') && !cursor_.at_line_end()) {
    Written lane;
    TokenKind k = cursor_.peek().kind;
    bool is_number = k == TokenKind::Integer || k == TokenKind::Real ||
                     (k == TokenKind::Name && is_literal_word(cursor_.text()));
    if (!is_number) {
      complain("a lane's number is missing", "a number; values are put into lanes by `put`");
      w.good = false;
      cursor_.skip_to_line_end();
      return;
    }
    literal(lane);
    body_.tables.lane_words.push_back(lane.literal);
    ++w.lanes;
    if (!cursor_.accept(',')) break;
  }
  if (!cursor_.expect('}', "after the lanes")) body_.good = w.good = false;
  if (w.lanes == 0) {
    if (w.good) complain(open, "there are no lanes between the braces", "{1, 2, 3, 4}");
    w.good = false;
    return;
  }
  w.literal = body_.tables.lane_words[w.first_lane];
}

Written OperandReader::operand() {
  Written w;
  w.token = cursor_.peek();
  if (!at_operand()) {
    complain("an operand is missing", "a value or a number");
    w.good = false;
    return w;
  }
  TokenKind k = w.token.kind;
  if (k == TokenKind::Quoted || (k == TokenKind::Name && !is_literal_word(cursor_.text()))) {
    named(w);
    return w;
  }
  if (k == TokenKind::Mark)
    lane_list(w);
  else
    literal(w);
  if (cursor_.accept(':')) {
    w.stated = read_type(cursor_, module_);
    if (!w.stated) body_.good = w.good = false;
  }
  return w;
}

// The name of a value.
void OperandReader::named(Written& w) {
  cursor_.take();
  Name n = name_of(w.token);
  if (!context_.names.has_value(n)) {
    unknown_value(w.token, n);
    w.good = false;
  } else {
    w.value = context_.names.at(n).value;
    w.good = w.value.exists();  // its own line was already complained about
  }
}

bool OperandReader::list(Operands& out) {
  while (!cursor_.at_mark(')') && !cursor_.at_line_end()) {
    out.push_back(operand());
    if (!cursor_.accept(',')) break;
  }
  return cursor_.expect(')', "after the arguments") || fail();
}

void OperandReader::not_a_number(const Written& w, std::string_view literal, Type type) {
  std::string form = type.is_float()     ? "a float with a point or an exponent"
                     : type.is_integer() ? "a whole number that fits " + type.element().name()
                     : type.is_bool()    ? "true or false"
                                         : "null or a value";
  complain(w.token, "'" + std::string(literal) + "' is not a number of type " + type.element().name(), form);
}

std::optional<Value> OperandReader::settle_lanes(Written& w, Type type) {
  if (type.lanes() != w.lanes || !type.has_lanes()) {
    complain(w.token, "these are " + std::to_string(w.lanes) + " lanes, and " + type.name() + " is wanted",
             type.has_lanes() ? std::to_string(type.lanes()) + " numbers, or one for all" : "one number");
    return std::nullopt;
  }
  std::vector<uint64_t> words;
  for (uint32_t k = 0; k < w.lanes; ++k) {
    std::string_view word = body_.tables.lane_words[w.first_lane + k];
    auto bits = literal_bits(word, type);
    if (!bits) {
      not_a_number(w, word, type);
      return std::nullopt;
    }
    words.push_back(static_cast<uint64_t>(*bits));
    if (type.words_per_lane() == 2) words.push_back(static_cast<uint64_t>(*bits >> 64));
  }
  return function_.constant_lanes(type, words);
}

// The value of an operand whose type is now known.
std::optional<Value> OperandReader::settle(Written& w, std::optional<Type> type, bool& untyped_told) {
  if (!w.good) return std::nullopt;
  if (w.literal.empty()) return w.value;
  if (w.stated) type = w.stated;
  if (!type) {
    bool told = std::exchange(untyped_told, true);
    bool real = w.literal.find('.') != std::string_view::npos;
    std::string lanes = w.lanes ? "[" + std::to_string(w.lanes) + "]" : "";
    if (!told)
      complain(w.token, "the type of this number is not known",
               "a type behind it, such as " + std::string(w.lanes ? "{…}" : w.literal) + ":" +
                   (real ? "f32" : "i32") + lanes);
    return std::nullopt;
  }
  if (type->has_lanes() && (context_.budget -= std::min<uint64_t>(context_.budget, type->words())) == 0) {
    complain(w.token, "the constants with lanes take more than 128 MiB", "fewer of them");
    return std::nullopt;
  }
  if (w.lanes) return settle_lanes(w, *type);
  auto bits = literal_bits(w.literal, *type);
  if (!bits) {
    not_a_number(w, w.literal, *type);
    return std::nullopt;
  }
  return function_.constant(*type, *bits);
}

// One of `+ i*scale`, `+ offset`, `- offset`.
bool OperandReader::address_part(Operands& operands, Address& address, bool& has_offset) {
  bool minus = cursor_.at_mark('-');
  bool signed_number = cursor_.peek().kind == TokenKind::Integer && cursor_.text().starts_with('-');
  if (!signed_number && !cursor_.accept('+') && !cursor_.accept('-'))
    return refuse(cursor_.peek(), "this does not belong into an address", "[p + i*scale + offset]");
  if (cursor_.peek().kind == TokenKind::Integer && !cursor_.at_mark('*', 1) && !cursor_.at_mark(':', 1)) {
    const Token& t = cursor_.take();
    auto bits = integer_bits(cursor_.text(t), Type::integer(64));
    if (has_offset) return refuse(t, "an address has one offset", "']' or an index such as i*4");
    if (!bits) return refuse(t, "this offset does not fit 64 bits", "a smaller number");
    address.offset = static_cast<int64_t>(minus ? 0 - *bits : *bits);
    return has_offset = true;
  }
  if (minus) return refuse(cursor_.peek(), "an index is added, not taken away", "[p + i*scale + offset]");
  if (address.indexed) return refuse(cursor_.peek(), "an address has one index", "[p + i*scale + offset]");
  address.indexed = true;
  operands.push_back(operand());
  if (!cursor_.accept('*')) return true;
  Token t = cursor_.peek();
  auto scale = cursor_.number(uint64_t(1) << 62);
  if (!scale || *scale == 0)
    return refuse(t, "an index is scaled by a positive whole number", "a number such as 4");
  address.scale = static_cast<int64_t>(*scale);
  return true;
}

// [p + i*scale + offset]
bool OperandReader::address(Operands& operands, Address& address) {
  if (!cursor_.expect('[', "before an address")) return fail();
  operands.push_back(operand());
  bool has_offset = false;
  while (!cursor_.at_mark(']') && !cursor_.at_line_end())
    if (!address_part(operands, address, has_offset)) return false;
  if (!cursor_.expect(']', "after an address")) return fail();
  return true;
}

}  // namespace porphyry::text
