// What follows each operation word, one function a layout, and what may follow any of them.
#include "body.h"
#include "porphyry/text/literals.h"

namespace porphyry::text {

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
  if (p.good) p.good = read_address(p.written, p.address);
  p.has_address = true;
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

}  // namespace porphyry::text
