// Bodies: labels first, then statements.
#include "body_reader.h"

#include <algorithm>

#include "body.h"

namespace porphyry::text {

std::optional<Type> read_type(Cursor& cursor, const Module& module) {
  if (cursor.peek().kind == TokenKind::Name) {
    if (auto type = Type::named(cursor.text())) {
      cursor.take();
      return type->is_pointer() ? module.pointer_type() : *type;
    }
  }
  cursor.complain("no type is written here", "bool, i2 to i128, f32, f64, ptr, or lanes such as f32[8]");
  return std::nullopt;
}

bool is_label_start(const Cursor& c) { return c.at_name() && (c.at_mark(':', 1) || c.at_mark('(', 1)); }

void Pending::clear() {
  written.clear(), wanted.clear(), results.clear(), lanes.clear();
  ways.cases.clear(), ways.targets.clear(), ways.arguments.clear();
  detail = 0;
  address = {}, copy = {};
  has_align = untyped_told = false;
  said = {};
  good = true;
}

uint32_t BodyReader::run(uint32_t comments_from) {
  context_.names.next_function();
  for (Value v : function_.parameters()) {
    Name n = function_.name(v);
    if (n.exists()) context_.names.define(n, v);
  }
  comment_ = static_cast<size_t>(
      std::lower_bound(context_.tokens.comments.begin(), context_.tokens.comments.end(), comments_from,
                       [](const LoneComment& c, uint32_t o) { return c.offset < o; }) -
      context_.tokens.comments.begin());
  make_room();
  gather_labels();
  while (cursor_.index() < end_) {
    look_ahead();
    lone_comments();
    if (is_label_start(cursor_))
      label();
    else
      statement();
  }
  lone_comments();
  uint32_t end = cursor_.peek().offset;
  for (auto& c : waiting_comments_) function_.comments.push_back(std::move(c));
  if (cursor_.at_mark('}')) {
    cursor_.take();
    cursor_.end_line();
  } else {
    complain("the function's body does not end", "'}' on a line of its own");
  }
  if (!function_.entry().exists())
    cursor_.complain("this function has no block",
                     "at least one label with instructions that end in return, go, when or trap");
  places_.is_complete = body_.good;
  return end;
}

// Names a line or two further on come from memory while this one is read.
void BodyReader::look_ahead() {
  if (!module_.realm().is_large()) return;
  constexpr size_t distance = 24;  // tokens
  ahead_ = std::max(ahead_, cursor_.index());
  for (size_t end = std::min(cursor_.index() + distance, end_); ahead_ < end; ++ahead_)
    if (const Token& t = context_.tokens.list[ahead_]; t.kind == TokenKind::Name)
      module_.realm().look_ahead(cursor_.text(t));
}

// What so many tokens come to in most programs, so that tables grow at most once.
void BodyReader::make_room() {
  size_t tokens = end_ - cursor_.index();
  const auto& labels = context_.tokens.labels;
  auto first = std::lower_bound(labels.begin(), labels.end(), cursor_.index());
  auto blocks = static_cast<size_t>(std::lower_bound(first, labels.end(), end_) - first);
  function_.expect({.values = tokens / 6 + 8,
                    .slots = tokens / 3 + 8,
                    .instructions = tokens / 6 + 2,
                    .blocks = blocks,
                    .edges = 2 * blocks,
                    .constants = tokens / 12 + 2,
                    .parameters = tokens / 8});
  places_.instructions.reserve(tokens / 6 + 2);
  places_.blocks.reserve(blocks);
}

// Labels come first, so that arguments in `go` know the types they go to.
void BodyReader::gather_labels() {
  size_t start = cursor_.index();
  const auto& labels = context_.tokens.labels;
  auto next = std::lower_bound(labels.begin(), labels.end(), start);
  for (; next != labels.end() && *next < end_; ++next) {
    constexpr ptrdiff_t distance = 4;  // labels
    if (module_.realm().is_large() && labels.end() - next > distance)
      module_.realm().look_ahead(cursor_.text(context_.tokens.list[next[distance]]));
    cursor_.go_to(*next);
    read_label_header();
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
    if (!cursor_.expect(':', "between a parameter and its type")) return void(body_.good = false);
    auto type = read_type(cursor_, module_);
    if (!type) return void(body_.good = false);
    if (function_.parameters(b).size() == Function::list_limit)
      return complain(token, "this block has more than 65535 parameters", "fewer");
    function_.add_parameter(b, *type, parameter);
    if (!cursor_.accept(',')) break;
  }
  if (!cursor_.expect(')', "after the block's parameters")) body_.good = false;
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
    complain(token, "the block above does not end", "return, go, when, choose or trap before this label");
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
    if (body_.good) complain("':' is missing after the label", "':'");
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

// `a, b =` before an operation that gives results; false when the line cannot be read on.
bool BodyReader::result_names() {
  body_.tables.result_names.clear();
  if (!cursor_.at_name() || !(cursor_.at_mark('=', 1) || cursor_.at_mark(',', 1))) return true;
  do {
    if (!cursor_.at_name()) {
      complain("a result's name is missing", "a name");
      return false;
    }
    body_.tables.result_names.push_back(cursor_.take());
  } while (cursor_.accept(','));
  if (!cursor_.expect('=', "between results and operation")) body_.good = false;
  return true;
}

void BodyReader::statement() {
  if (!result_names()) return cursor_.skip_line();
  Pending& p = body_.tables.pending;
  p.clear();
  body_.tables.lane_words.clear();
  p.word = cursor_.peek();
  auto op = cursor_.peek().kind == TokenKind::Name ? operation_named(cursor_.text()) : std::nullopt;
  if (!op) {
    std::vector<std::string> names;
    if (cursor_.may_suggest())
      for (const OperationInfo& row : all_operations()) names.emplace_back(row.name);
    std::string word(cursor_.text().substr(0, 100)), near = nearest(word, names);
    complain(cursor_.at_line_end() ? "an operation is missing" : "'" + word + "' is not an operation",
             near.empty() ? "an operation such as add, load, call, go or return" : "perhaps '" + near + "'");
    define_results({});
    return cursor_.skip_line();
  }
  cursor_.take();
  p.op = *op;
  StatementReader(body_, operands_, p).read();
  Instruction i = InstructionMaker(body_, operands_, pen_, p).make(block_ended_);
  block_ended_ |= info(p.op).ends_block();
  define_results(i);
  cursor_.skip_line();
}

// Names for its results, the comments above it, its place; a statement with a mistake still names results.
void BodyReader::define_results(Instruction i) {
  if (i.exists()) {
    const Token& word = body_.tables.pending.word;
    places_.instructions.set(i, {word.offset, word.length});
    for (auto& c : waiting_comments_) {
      c.above = i;
      function_.comments.push_back(std::move(c));
    }
    waiting_comments_.clear();
  }
  const auto& names = body_.tables.result_names;
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

uint32_t read_body(ReadContext& context, Cursor& cursor, Symbol symbol, size_t end, uint32_t comments_from,
                   PlaceMap::Body& places) {
  Body body{context, cursor, context.module.function(symbol), *context.tables};
  return BodyReader(body, end, places).run(comments_from);
}

ReadContext::ReadContext(Module& m, const SourceText& s, const Tokens& t, Diagnostics& p)
    : module(m), source(s), tokens(t), problems(p), tables(std::make_unique<StatementTables>()) {}
ReadContext::~ReadContext() = default;

}  // namespace porphyry::text
