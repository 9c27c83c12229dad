// Operands: values, literals, addresses, lists.
#include <utility>

#include "body.h"
#include "porphyry/text/literals.h"

namespace porphyry::text {

bool BodyReader::at_operand() const {
  TokenKind k = cursor_.peek().kind;
  return k == TokenKind::Name || k == TokenKind::Quoted || k == TokenKind::Integer || k == TokenKind::Real;
}

bool is_literal_word(std::string_view w) {
  return w == "true" || w == "false" || w == "null" || w == "inf" || w == "nan" || w == "-inf" || w == "-nan";
}

void BodyReader::unknown_value(const Token& token, std::string_view name) {
  std::vector<std::string> names;
  for (size_t k = 0; k < function_.value_limit(); ++k) {
    Name n = function_.name(Value(k));
    if (n.exists() && context_.names.has_value(n)) names.emplace_back(module_.text(n));
  }
  std::string near = nearest(name, names);
  complain(token, "no value is called '" + std::string(name) + "' here",
           near.empty() ? "a value that is defined above"
                        : "a value that is defined above, perhaps '" + near + "'");
}

Written BodyReader::operand() {
  Written w;
  w.token = cursor_.peek();
  if (!at_operand()) {
    complain("an operand is missing", "a value or a number");
    w.good = false;
    return w;
  }
  const Token& t = cursor_.take();
  std::string_view word = cursor_.text(t);
  bool is_literal = t.kind == TokenKind::Integer || t.kind == TokenKind::Real ||
                    (t.kind == TokenKind::Name && is_literal_word(word));
  if (is_literal) {
    w.literal = word;
    if (word.ends_with("nan") && cursor_.accept('(')) {
      w.literal += "(" + std::string(cursor_.text(cursor_.take())) + ")";
      if (!cursor_.expect(')', "after a nan's bits")) good_ = w.good = false;
    }
    if (cursor_.accept(':')) {
      w.stated = read_type(cursor_);
      if (!w.stated) good_ = w.good = false;
    }
    return w;
  }
  Name n = name_of(t);
  if (!context_.names.has_value(n)) {
    unknown_value(t, module_.text(n));
    w.good = false;
  } else {
    w.value = context_.names.at(n).value;
    w.good = w.value.exists();  // its own line was already complained about
  }
  return w;
}

BodyReader::Operands BodyReader::operand_list(char closing, std::string_view what) {
  Operands out;
  while (!cursor_.at_mark(closing) && !cursor_.at_line_end()) {
    out.push_back(operand());
    if (!cursor_.accept(',')) break;
  }
  if (!cursor_.expect(closing, "after " + std::string(what))) good_ = false;
  return out;
}

// The value of an operand whose type is now known.
std::optional<Value> BodyReader::settle(Written& w, std::optional<Type> type) {
  if (!w.good) return std::nullopt;
  if (w.literal.empty()) return w.value;
  if (w.stated) type = w.stated;
  if (!type) {
    bool told = std::exchange(untyped_told_, true);
    if (!told)
      complain(w.token, "the type of this number is not known",
               "a type behind it, such as " + w.literal + ":" +
                   (w.literal.find('.') == std::string::npos ? "i32" : "f32"));
    return std::nullopt;
  }
  auto bits = literal_bits(w.literal, *type);
  if (!bits) {
    std::string form = type->is_float()     ? "a float with a point or an exponent"
                       : type->is_integer() ? "a whole number that fits " + type->name()
                       : type->is_bool()    ? "true or false"
                                            : "null or a value";
    complain(w.token, "'" + w.literal + "' is not a number of type " + type->name(), form);
    return std::nullopt;
  }
  return function_.constant(*type, *bits);
}

// [p + i*scale + offset]
bool BodyReader::read_address(Operands& operands, Address& address) {
  auto fail = [&] { return good_ = false; };
  if (!cursor_.expect('[', "before an address")) return fail();
  operands.push_back(operand());
  bool has_offset = false;
  auto offset = [&](bool minus) {
    const Token& t = cursor_.take();
    auto bits = integer_bits(cursor_.text(t), Type::integer(64));
    if (!bits || has_offset) {
      complain(t, has_offset ? "an address has one offset" : "this offset does not fit 64 bits",
               "']' or an index such as i*4");
      return false;
    }
    address.offset = static_cast<int64_t>(minus ? 0 - *bits : *bits);
    return has_offset = true;
  };
  while (!cursor_.at_mark(']') && !cursor_.at_line_end()) {
    bool minus = cursor_.at_mark('-');
    bool signed_number = cursor_.peek().kind == TokenKind::Integer && cursor_.text().starts_with('-');
    if (!signed_number && !cursor_.accept('+') && !cursor_.accept('-')) {
      complain("this does not belong into an address", "[p + i*scale + offset]");
      return false;
    }
    bool is_number = cursor_.peek().kind == TokenKind::Integer;
    if (is_number && !cursor_.at_mark('*', 1)) {
      if (!offset(minus)) return false;
      continue;
    }
    if (address.indexed || minus) {
      complain(minus ? "an index is added, not taken away" : "an address has one index",
               "[p + i*scale + offset]");
      return false;
    }
    address.indexed = true;
    operands.push_back(operand());
    if (!cursor_.accept('*')) continue;
    auto scale = cursor_.peek().kind == TokenKind::Integer ? integer_bits(cursor_.text(), Type::integer(64))
                                                           : std::nullopt;
    if (!scale || static_cast<int64_t>(*scale) <= 0) {
      complain("an index is scaled by a positive whole number", "a number such as 4");
      return false;
    }
    address.scale = static_cast<int64_t>(*scale);
    cursor_.take();
  }
  if (!cursor_.expect(']', "after an address")) return fail();
  return true;
}

}  // namespace porphyry::text
