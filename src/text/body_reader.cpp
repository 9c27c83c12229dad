#include "body_reader.h"

#include <algorithm>
#include <utility>

#include "porphyry/ir/typing.h"
#include "porphyry/text/literals.h"

namespace porphyry::text {

std::optional<Type> read_type(Cursor& cursor) {
  if (cursor.peek().kind == TokenKind::Name) {
    if (auto type = Type::named(cursor.text())) {
      cursor.take();
      return type;
    }
  }
  cursor.complain("no type is written here", "bool, i8, i16, i32, i64, f32, f64 or ptr");
  return std::nullopt;
}

namespace {

// An operand as written: a value, or a literal whose type may have to come from elsewhere.
struct Written {
  Token token;
  std::string literal;         // not empty: a literal
  std::optional<Type> stated;  // 3:i32
  Value value;
  bool good = true;
};

class BodyReader {
 public:
  BodyReader(ReadContext& context, Cursor& cursor, Symbol symbol, TextMap::Body& places)
      : context_(context),
        module_(context.module),
        cursor_(cursor),
        function_(module_.function(symbol)),
        pen_(module_, function_),
        places_(places) {}

  uint32_t run();

 private:
  using Operands = std::vector<Written>;

  // structure
  void gather_labels();
  void read_label_header();
  void label();
  void statement();
  void lone_comments();

  // operands
  Written operand();
  bool at_operand() const;
  Operands operand_list(char closing, std::string_view what);
  std::optional<Value> settle(Written& w, std::optional<Type> type);
  bool settle_address(Operands& operands, Address& address);
  void unknown_value(const Token& token, std::string_view name);

  // one statement by layout; each fills the draft and its storage
  struct Pending {
    Op op;
    Token word;
    Operands written;          // in order of operands
    std::vector<Type> wanted;  // types known from elsewhere, by operand
    std::vector<Type> results;
    uint32_t detail = 0;
    Address address;
    bool has_address = false;
    struct Target {
      Token token;
      Block to;
      Operands arguments;
    };
    std::vector<Target> targets;
    bool good = true;
  };
  void plain(Pending& p);
  void conversion(Pending& p);
  void memory(Pending& p);
  void reserve(Pending& p);
  void address_of(Pending& p);
  void call(Pending& p);
  void go(Pending& p);
  void when(Pending& p);
  void give_back(Pending& p);
  void target(Pending& p);
  void trailing(Pending& p);
  Position position();
  bool number_after_colon(uint32_t& out);
  void finish(Pending& p, const std::vector<Token>& result_names);
  void define_results(const std::vector<Token>& names, Instruction i);
  bool settle_all(Pending& p, std::vector<Value>& values, std::vector<Type>& types);
  void infer_type(Pending& p, Type& inferred);

  void complain(const Token& t, std::string message, std::string expected) {
    good_ = false;
    cursor_.complain(t, std::move(message), std::move(expected));
  }
  void complain(std::string message, std::string expected) {
    complain(cursor_.peek(), std::move(message), std::move(expected));
  }
  Name name_of(const Token& t) {
    return module_.realm().name(t.kind == TokenKind::Quoted ? unquoted(cursor_.text(t))
                                                            : std::string(cursor_.text(t)));
  }

  ReadContext& context_;
  Module& module_;
  Cursor& cursor_;
  Function& function_;
  Pen pen_;
  TextMap::Body& places_;
  Position position_;
  std::vector<Function::Comment> waiting_comments_;
  size_t comment_ = 0;
  bool block_ended_ = true;
  bool untyped_told_ = false;  // once a statement is enough
  bool good_ = true;
};

// ---- structure --------------------------------------------------------------------------------------------

bool is_label_start(const Cursor& c) { return c.at_name() && (c.at_mark(':', 1) || c.at_mark('(', 1)); }

uint32_t BodyReader::run() {
  context_.names.next_function();
  for (Value v : function_.parameters()) {
    Name n = function_.name(v);
    if (n.exists()) context_.names.define(n, v);
  }
  comment_ = static_cast<size_t>(
      std::lower_bound(context_.tokens.comments.begin(), context_.tokens.comments.end(),
                       cursor_.peek().offset, [](const LoneComment& c, uint32_t o) { return c.offset < o; }) -
      context_.tokens.comments.begin());
  gather_labels();
  while (!cursor_.at_mark('}') && !cursor_.at_end()) {
    lone_comments();
    if (is_label_start(cursor_))
      label();
    else
      statement();
  }
  lone_comments();
  uint32_t end = cursor_.peek().offset;
  for (auto& c : waiting_comments_) function_.comments.push_back(std::move(c));
  if (cursor_.at_end())
    complain("the function's body does not end", "'}' on a line of its own");
  else
    cursor_.take();
  cursor_.end_line();
  if (!function_.entry().exists())
    cursor_.complain("this function has no block",
                     "at least one label with instructions that end in return, go, when or trap");
  places_.is_complete = good_;
  return end;
}

// Labels come first, so that arguments in `go` know the types they go to.
void BodyReader::gather_labels() {
  size_t start = cursor_.index();
  while (!cursor_.at_mark('}') && !cursor_.at_end()) {
    if (is_label_start(cursor_)) read_label_header();
    cursor_.skip_line();
  }
  cursor_.go_to(start);
}

void BodyReader::read_label_header() {
  Token token = cursor_.peek();
  Name name = name_of(cursor_.take());
  if (context_.names.has_block(name))
    return complain(token, "a second block is called '" + std::string(module_.text(name)) + "'",
                    "a name that no other block of the function has");
  Block b = function_.add_block(name);
  context_.names.define(name, b);
  places_.blocks.set(b, {token.offset, token.length});
  if (!cursor_.accept('(')) return;
  while (!cursor_.at_mark(')')) {
    if (!cursor_.at_name()) return complain("a parameter is missing", "name: type");
    Name parameter = name_of(cursor_.take());
    if (!cursor_.expect(':', "between a parameter and its type")) return void(good_ = false);
    auto type = read_type(cursor_);
    if (!type) return void(good_ = false);
    function_.add_parameter(b, *type, parameter);
    if (!cursor_.accept(',')) break;
  }
  if (!cursor_.expect(')', "after the block's parameters")) good_ = false;
}

void BodyReader::label() {
  Token token = cursor_.peek();
  Name name = name_of(cursor_.take());
  Block b = context_.names.at(name).block;
  for (auto& c : waiting_comments_) {
    c.above_label = b;
    function_.comments.push_back(std::move(c));
  }
  waiting_comments_.clear();
  if (!block_ended_)
    complain(token, "the block above does not end", "return, go, when or trap before this label");
  if (cursor_.accept('(')) {
    for (Value v : function_.parameters(b)) {
      Token at = cursor_.peek();
      Name n = function_.name(v);
      if (context_.names.has_value(n))
        complain(at, "a second value is called '" + std::string(module_.text(n)) + "'",
                 "a name that no other value of the function has");
      context_.names.define(n, v);
      while (!cursor_.at_mark(',') && !cursor_.at_mark(')') && !cursor_.at_line_end()) cursor_.take();
      cursor_.accept(',');
    }
    while (!cursor_.at_mark(')') && !cursor_.at_line_end()) cursor_.take();  // told of above, if wrong
    cursor_.accept(')');
  }
  if (cursor_.accept(':'))
    cursor_.end_line();
  else {
    if (good_) complain("':' is missing after the label", "':'");
    cursor_.skip_line();
  }
  pen_.at_end(b);
  block_ended_ = false;
}

void BodyReader::lone_comments() {
  while (comment_ < context_.tokens.comments.size() &&
         context_.tokens.comments[comment_].offset < cursor_.peek().offset)
    waiting_comments_.push_back({{}, {}, context_.tokens.comments[comment_++].text});
}

void BodyReader::statement() {
  std::vector<Token> result_names;
  if (cursor_.at_name() && (cursor_.at_mark('=', 1) || cursor_.at_mark(',', 1))) {
    do {
      if (!cursor_.at_name()) {
        complain("a result's name is missing", "a name");
        return cursor_.skip_line();
      }
      result_names.push_back(cursor_.take());
    } while (cursor_.accept(','));
    if (!cursor_.expect('=', "between results and operation")) good_ = false;
  }
  Pending p{};
  p.word = cursor_.peek();
  auto op = cursor_.peek().kind == TokenKind::Name ? operation_named(cursor_.text()) : std::nullopt;
  if (!op) {
    std::vector<std::string> names;
    for (const OperationInfo& row : all_operations()) names.emplace_back(row.name);
    std::string word(cursor_.text()), near = nearest(word, names);
    complain(cursor_.at_line_end() ? "an operation is missing" : "'" + word + "' is not an operation",
             near.empty() ? "an operation such as add, load, call, go or return" : "perhaps '" + near + "'");
    define_results(result_names, {});
    return cursor_.skip_line();
  }
  cursor_.take();
  p.op = *op;
  switch (info(*op).layout) {
    case Layout::One:
    case Layout::Two:
    case Layout::Three:
    case Layout::Pick: plain(p); break;
    case Layout::Convert: conversion(p); break;
    case Layout::Load:
    case Layout::Store:
    case Layout::At: memory(p); break;
    case Layout::Reserve: reserve(p); break;
    case Layout::AddressOf: address_of(p); break;
    case Layout::Call: call(p); break;
    case Layout::Go: go(p); break;
    case Layout::When: when(p); break;
    case Layout::Return: give_back(p); break;
    case Layout::Trap: break;
  }
  if (p.good) trailing(p);
  if (p.good && !cursor_.at_line_end()) {
    complain("the line goes on where it should end", "the end of the line");
    p.good = false;
  }
  finish(p, result_names);
  cursor_.skip_line();
}

// ---- operands ---------------------------------------------------------------------------------------------

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

// ---- layouts ----------------------------------------------------------------------------------------------

void BodyReader::plain(Pending& p) {
  for (size_t k = 0; k < info(p.op).arity(); ++k) {
    if (k > 0 && !cursor_.expect(',', "between operands of '" + std::string(info(p.op).name) + "'")) {
      p.good = good_ = false;
      return;
    }
    p.written.push_back(operand());
    if (!p.written.back().token.length) p.good = false;
  }
  if (p.op == Op::Pick) p.wanted = {Type::boolean()};
}

void BodyReader::conversion(Pending& p) {
  auto to = read_type(cursor_);
  if (!to) {
    p.good = good_ = false;
    return;
  }
  p.results = {*to};
  p.written.push_back(operand());
}

void BodyReader::memory(Pending& p) {
  if (p.op == Op::Load) {
    auto type = read_type(cursor_);
    if (!type) {
      p.good = good_ = false;
      return;
    }
    p.results = {*type};
  }
  if (p.op == Op::At) p.results = {Type::pointer()};
  if (p.op == Op::Store) {
    p.written.push_back(operand());
    if (!cursor_.expect(',', "between a value and the address it goes to")) p.good = good_ = false;
  }
  if (p.good) p.good = settle_address(p.written, p.address);
  p.has_address = true;
}

// [p + i*scale + offset]
bool BodyReader::settle_address(Operands& operands, Address& address) {
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

void BodyReader::reserve(Pending& p) {
  p.results = {Type::pointer()};
  ReserveShape shape;
  auto number = [&](uint64_t& out, const char* what) {
    auto bits = cursor_.peek().kind == TokenKind::Integer ? integer_bits(cursor_.text(), Type::integer(64))
                                                          : std::nullopt;
    if (!bits || *bits > (uint64_t(1) << 31)) {
      complain(std::string("the ") + what + " is not a whole number up to 2^31", "a number such as 16");
      p.good = false;
      return;
    }
    cursor_.take();
    out = *bits;
  };
  number(shape.bytes, "size");
  uint64_t align = 1;
  if (p.good && cursor_.accept_word("align")) {
    Token t = cursor_.peek();
    number(align, "alignment");
    if (p.good && (align == 0 || (align & (align - 1)) != 0 || align > 4096)) {
      complain(t, "this alignment is not a power of two up to 4096", "1, 2, 4, 8, …");
      p.good = false;
    }
  }
  shape.align = static_cast<uint32_t>(align);
  p.detail = function_.add_reserve(shape);
}

void BodyReader::address_of(Pending& p) {
  p.results = {Type::pointer()};
  if (!cursor_.accept_word("of")) {
    complain("'of' is missing", "address of NAME");
    p.good = false;
    return;
  }
  Token t = cursor_.peek();
  auto name = cursor_.name("the name of a function or data");
  Symbol s = name ? module_.find(*name) : Symbol();
  if (!s.exists()) {
    if (name)
      complain(t, "nothing in the module is called '" + *name + "'", "the name of a function or data");
    p.good = good_ = false;
    return;
  }
  p.detail = s.index;
}

void BodyReader::call(Pending& p) {
  Token t = cursor_.peek();
  auto name = cursor_.name("the name of a function");
  const Signature* signature = nullptr;
  if (name) {
    Symbol s = module_.find(*name);
    signature = s.exists() ? module_.signature(s) : nullptr;
    p.detail = s.index;
    if (!signature) {
      std::vector<std::string> names;
      for (size_t k = 0; k < module_.symbol_count(); ++k)
        if (module_.signature(Symbol(k))) names.emplace_back(module_.symbol_name(Symbol(k)));
      std::string near = nearest(*name, names);
      complain(
          t,
          s.exists() ? "'" + *name + "' is data and cannot be called"
                     : "no function is called '" + *name + "'",
          near.empty() ? "a function of the module" : "a function of the module, perhaps '" + near + "'");
    }
  }
  if (!cursor_.expect('(', "before the arguments")) p.good = good_ = false;
  if (p.good) p.written = operand_list(')', "the arguments");
  if (!signature) {
    p.good = good_ = false;
    return;
  }
  p.results = signature->results;
  p.wanted = signature->parameters;
  if (p.written.size() != p.wanted.size()) {
    complain(t,
             "'" + *name + "' is called with " + std::to_string(p.written.size()) +
                 (p.written.size() == 1 ? " argument" : " arguments"),
             std::to_string(p.wanted.size()) + " for " + signature->text());
    p.good = false;
  }
}

void BodyReader::target(Pending& p) {
  Pending::Target target;
  target.token = cursor_.peek();
  auto name = cursor_.name("the name of a block");
  if (!name) {
    p.good = good_ = false;
    return;
  }
  Name n = module_.realm().name(*name);
  bool known = context_.names.has_block(n);
  if (cursor_.accept('(')) target.arguments = operand_list(')', "the arguments");
  if (!known) {
    std::vector<std::string> names;
    for (Block b = function_.entry(); b.exists(); b = function_.next(b))
      names.emplace_back(module_.text(function_.name(b)));
    std::string near = nearest(*name, names);
    complain(target.token, "no block is called '" + *name + "'",
             near.empty() ? "a label of this function" : "a label of this function, perhaps '" + near + "'");
    p.good = false;
    return;
  }
  target.to = context_.names.at(n).block;
  size_t takes = function_.parameters(target.to).size();
  if (target.arguments.size() != takes) {
    complain(target.token,
             "'" + *name + "' is given " + std::to_string(target.arguments.size()) +
                 (target.arguments.size() == 1 ? " argument" : " arguments"),
             std::to_string(takes) + ", one for each of its parameters");
    p.good = false;
  }
  p.targets.push_back(std::move(target));
}

void BodyReader::go(Pending& p) { target(p); }

void BodyReader::when(Pending& p) {
  p.wanted = {Type::boolean()};
  p.written.push_back(operand());
  if (!cursor_.accept_word("go")) {
    complain("'go' is missing after the condition", "when c go b else d");
    p.good = false;
    return;
  }
  target(p);
  if (!cursor_.accept_word("else")) {
    if (p.good) complain("'else' is missing", "else and a block: both ways are written");
    p.good = false;
    return;
  }
  target(p);
}

void BodyReader::give_back(Pending& p) {
  while (!cursor_.at_line_end() && !cursor_.at_mark('@')) {
    p.written.push_back(operand());
    if (!cursor_.accept(',')) break;
  }
  p.wanted = function_.signature().results;
  if (p.written.size() != p.wanted.size()) {
    complain(
        p.word,
        "this returns " + std::to_string(p.written.size()) + (p.written.size() == 1 ? " result" : " results"),
        std::to_string(p.wanted.size()) + " for " + function_.signature().text());
    p.good = false;
  }
}

// ---- what follows an operation ----------------------------------------------------------------------------

void BodyReader::trailing(Pending& p) {
  position_ = {};
  if (p.has_address && p.op != Op::At) {
    if (cursor_.accept_word("align")) {
      auto bits = cursor_.peek().kind == TokenKind::Integer ? integer_bits(cursor_.text(), Type::integer(32))
                                                            : std::nullopt;
      if (!bits || *bits == 0 || (*bits & (*bits - 1)) != 0) {
        complain("this alignment is not a power of two", "1, 2, 4, 8, …");
        p.good = false;
        return;
      }
      cursor_.take();
      p.address.align = static_cast<uint32_t>(*bits);
    }
    if (cursor_.accept_word("volatile")) p.address.is_volatile = true;
  }
  if (cursor_.at_mark('@')) position_ = position();
}

bool BodyReader::number_after_colon(uint32_t& out) {
  auto bits = cursor_.peek().kind == TokenKind::Integer ? integer_bits(cursor_.text(), Type::integer(32))
                                                        : std::nullopt;
  if (!bits) {
    complain("this position is not complete", "@file:line:column, three numbers");
    return false;
  }
  cursor_.take();
  out = static_cast<uint32_t>(*bits);
  return true;
}

// @file:line:column, `in @…` for each call it was inlined at (innermost first), `and @…` for a merged one.
Position BodyReader::position() {
  std::vector<PositionRow> chain;
  auto follows = [&](std::string_view word) {
    if (!cursor_.at_word(word) || !cursor_.at_mark('@', 1)) return false;
    cursor_.take();
    return true;
  };
  do {
    PositionRow row;
    cursor_.take();
    bool good = number_after_colon(row.source) && cursor_.expect(':', "in a position") &&
                number_after_colon(row.line) && cursor_.expect(':', "in a position") &&
                number_after_colon(row.column);
    if (!good) {
      good_ = false;
      return {};
    }
    chain.push_back(row);
  } while (follows("in"));
  Position merged = follows("and") ? position() : Position();
  Position outer;
  for (size_t k = chain.size(); k-- > 0;) {
    chain[k].inlined_at = outer;
    if (k == 0) chain[k].merged_with = merged;
    outer = module_.add_position(chain[k]);
  }
  return outer;
}

// ---- making the instruction -------------------------------------------------------------------------------

// The type that literals take from the other operands.
void BodyReader::infer_type(Pending& p, Type& inferred) {
  for (size_t k = p.op == Op::Pick ? 1 : 0; k < p.written.size(); ++k) {
    const Written& w = p.written[k];
    if (!w.good || inferred.exists()) continue;
    if (w.literal.empty())
      inferred = function_.type(w.value);
    else if (w.stated)
      inferred = *w.stated;
  }
}

bool BodyReader::settle_all(Pending& p, std::vector<Value>& values, std::vector<Type>& types) {
  // An operand that is wrong already may be the one that the type would have come from.
  untyped_told_ = std::any_of(p.written.begin(), p.written.end(), [](const Written& w) { return !w.good; });
  Type inferred;
  Layout layout = info(p.op).layout;
  if (layout <= Layout::Pick) infer_type(p, inferred);
  bool good = true;
  for (size_t k = 0; k < p.written.size(); ++k) {
    std::optional<Type> type;
    if (k < p.wanted.size())
      type = p.wanted[k];
    else if (inferred.exists())
      type = inferred;
    if (p.has_address) {
      size_t base = p.op == Op::Store ? 1 : 0;
      if (k == base) type = Type::pointer();
      if (k == base + 1) type = Type::integer(64);
    }
    auto v = settle(p.written[k], type);
    if (!v) {
      good = false;
      continue;
    }
    if (k < p.wanted.size() && layout != Layout::Pick && layout != Layout::When &&
        function_.type(*v) != p.wanted[k]) {
      complain(p.written[k].token, "this value is " + function_.type(*v).name(), p.wanted[k].name());
      good = false;
    }
    values.push_back(*v);
    types.push_back(function_.type(*v));
  }
  return good;
}

void BodyReader::finish(Pending& p, const std::vector<Token>& result_names) {
  std::vector<Value> operands;
  std::vector<Type> types;
  bool settled = settle_all(p, operands, types);
  bool good = settled && p.good;
  if (good && info(p.op).result == ResultRule::Same) p.results = {types.back()};
  if (info(p.op).result == ResultRule::Truth) p.results = {Type::boolean()};
  // A wrong target says nothing about the condition.
  if (good || (settled && p.op == Op::When && types.size() == 1)) {
    std::optional<Type> result = p.results.empty() ? std::nullopt : std::optional(p.results[0]);
    if (auto problem = typing_problem(p.op, types, result)) {
      complain(problem->operand >= 0 ? p.written[static_cast<size_t>(problem->operand)].token : p.word,
               problem->message, problem->expected);
      good = false;
    }
  }
  if (good && p.results.size() != result_names.size() && !(result_names.empty() && p.op == Op::Call)) {
    complain(p.word,
             "'" + std::string(cursor_.text(p.word)) + "' gives " + std::to_string(p.results.size()) +
                 (p.results.size() == 1 ? " result" : " results") + ", but " +
                 std::to_string(result_names.size()) + " are named",
             p.results.empty() ? "the operation without '='" : "a name for each result, then '='");
    good = false;
  }
  // Edges' arguments, in the order they are written.
  std::vector<std::vector<Value>> arguments;
  for (auto& t : p.targets) {
    arguments.emplace_back();
    auto parameters = function_.parameters(t.to);
    for (size_t k = 0; k < t.arguments.size() && k < parameters.size(); ++k) {
      Type wanted = function_.type(parameters[k]);
      auto v = settle(t.arguments[k], wanted);
      if (v && function_.type(*v) != wanted) {
        complain(t.arguments[k].token, "this value is " + function_.type(*v).name(),
                 wanted.name() + ", the type of the block's parameter");
        v.reset();
      }
      if (!v)
        good = false;
      else
        arguments.back().push_back(*v);
    }
  }
  if (!pen_.block().exists() || block_ended_) {
    complain(
        p.word,
        pen_.block().exists() ? "the block above has already ended" : "a function's body begins with a label",
        "a label, such as next:");
    good = false;
  }
  if (info(p.op).ends_block()) block_ended_ = true;
  if (!good) {
    good_ = false;
    return define_results(result_names, {});
  }
  if (p.has_address) p.detail = function_.add_address(p.address);
  std::vector<Function::Draft::Target> targets;
  for (size_t k = 0; k < p.targets.size(); ++k) targets.push_back({p.targets[k].to, arguments[k]});
  Instruction i = pen_.put({p.op, operands, p.results, p.detail, position_, targets});
  places_.instructions.set(i, {p.word.offset, p.word.length});
  for (auto& c : waiting_comments_) {
    c.above = i;
    function_.comments.push_back(std::move(c));
  }
  waiting_comments_.clear();
  define_results(result_names, i);
}

void BodyReader::define_results(const std::vector<Token>& names, Instruction i) {
  for (size_t k = 0; k < names.size(); ++k) {
    Name n = name_of(names[k]);
    if (context_.names.has_value(n))
      complain(names[k], "a second value is called '" + std::string(module_.text(n)) + "'",
               "a name that no other value of the function has");
    Value v = i.exists() ? function_.result(i, k) : Value();
    if (v.exists()) function_.set_name(v, n);
    context_.names.define(n, v);
  }
}

}  // namespace

uint32_t read_body(ReadContext& context, Cursor& cursor, Symbol symbol, TextMap::Body& places) {
  return BodyReader(context, cursor, symbol, places).run();
}

}  // namespace porphyry::text
