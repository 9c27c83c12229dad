#include "porphyry/formats/text.h"

#include <algorithm>
#include <cerrno>
#include <cstring>
#include <fstream>
#include <sstream>

#include "items.h"

namespace porphyry {
namespace text {

ItemReader::ItemReader(Realm& realm, const SourceText& source)
    : source_(source),
      out_{std::make_unique<Module>(realm), {}, {}},
      tokens_(tokenize(source)),
      cursor_(source_, tokens_.list, out_.problems),
      context_(*out_.module, source_, tokens_, out_.problems) {
  out_.problems = std::move(tokens_.problems);
}

ReadModule ItemReader::run(const BodyRead& body_read) {
  while (!cursor_.at_end()) header();
  for (const Late& late : late_) {
    cursor_.go_to(late.token);
    if (!late.is_body) {
      data_contents(late.symbol);
      continue;
    }
    Anchor& anchor = anchors_[symbol_anchors_[late.symbol.index]];
    anchor.body_end = read_body(context_, cursor_, late.symbol, late.end, anchor.offset,
                                out_.places.bodies[late.symbol.index]);
    if (body_read) body_read(out_, late.symbol);
  }
  gather_comments();
  std::stable_sort(out_.problems.begin(), out_.problems.end(), [](const Diagnostic& a, const Diagnostic& b) {
    return std::pair(a.line, a.column) < std::pair(b.line, b.column);
  });
  return std::move(out_);
}

void ItemReader::header() {
  item_offset_ = cursor_.peek().offset;
  if (cursor_.accept_word("module")) return module_line();
  if (cursor_.accept_word("layout")) return layout_line();
  if (cursor_.accept_word("source")) return source_line();
  if (cursor_.accept_word("extern")) return extern_line();
  if (cursor_.accept_word("kinds")) return kinds_block();
  Linkage linkage;
  if (!read_linkage(linkage)) return cursor_.skip_line();
  if (cursor_.accept_word("func")) return function_header(linkage);
  if (cursor_.accept_word("data")) return data_header(linkage);
  cursor_.complain("a module's item is missing here", "module, layout, source, kinds, data, extern or func");
  cursor_.skip_line();
}

// local · weak · section "name"
bool ItemReader::read_linkage(Linkage& out) {
  out.is_local = cursor_.accept_word("local");
  out.is_weak = cursor_.accept_word("weak");
  if (!cursor_.accept_word("section")) return true;
  auto name = cursor_.name("a section's name in quotes");
  if (name) out.section = *name;
  return name.has_value();
}

void ItemReader::module_line() {
  anchor(item_offset_, Module::Comment::Above::Module, 0);
  if (auto name = cursor_.name("the module's name")) module().set_name(module().realm().name(*name));
  cursor_.end_line();
}

// layout little|big [pointers 32|64]
void ItemReader::layout_line() {
  MemoryLayout layout;
  if (cursor_.accept_word("big"))
    layout.order = ByteOrder::Big;
  else if (!cursor_.accept_word("little"))
    cursor_.complain("this byte order is not known", "little or big");
  if (cursor_.accept_word("pointers")) {
    Token t = cursor_.peek();
    auto bits = cursor_.number(64);
    if (!bits || (*bits != 32 && *bits != 64))
      cursor_.complain(t, "pointers have no such width", "32 or 64");
    else
      layout.pointer_bits = static_cast<unsigned>(*bits);
  }
  if (module().symbol_count())
    cursor_.complain("the layout comes after what it decides", "the layout before functions and data");
  module().layout = layout;
  cursor_.end_line();
}

void ItemReader::source_line() {
  auto number = cursor_.number(0xffffffffu);
  if (!number) {
    cursor_.complain("a source has a number", "source 1 \"name\"");
    return cursor_.skip_line();
  }
  if (auto name = cursor_.name("the source's name in quotes"))
    module().sources.push_back({static_cast<uint32_t>(*number), *name});
  cursor_.end_line();
}

// A name for a new symbol; nothing (and a complaint) when it is taken.
std::optional<std::string> ItemReader::new_name(std::string_view what) {
  Token t = cursor_.peek();
  auto name = cursor_.name(what);
  if (name && module().find(*name).exists()) {
    cursor_.complain(t, "a second item is called '" + *name + "'",
                     "a name that no other item of the module has");
    return std::nullopt;
  }
  return name;
}

void ItemReader::add_symbol(Symbol s, Token name) {
  out_.places.bodies.resize(module().symbol_count());
  out_.places.bodies.back().header = {name.offset, name.length};
  symbol_anchors_.push_back(anchors_.size());
  anchor(item_offset_, Module::Comment::Above::Symbol, s.index);
}

void ItemReader::extern_line() {
  bool is_data = cursor_.accept_word("data");
  if (!is_data && !cursor_.accept_word("func")) {
    cursor_.complain("what is external is not said", "extern func or extern data");
    return cursor_.skip_line();
  }
  Token token = cursor_.peek();
  auto name = new_name("the name of what is external");
  if (!name) return cursor_.skip_line();
  if (is_data) {
    add_symbol(module().add_extern_data(*name), token);
    return cursor_.end_line();
  }
  std::vector<Name> no_names;
  FunctionFacts facts;
  auto signature = signature_of(false, no_names, facts);
  if (!signature || !function_facts(facts, true)) return cursor_.skip_line();
  Symbol s = module().add_extern_function(*name, *signature);
  module()[s].facts = std::move(facts);
  add_symbol(s, token);
  cursor_.end_line();
}

// sole const secret, behind a parameter's type
bool ItemReader::parameter_marks(FunctionFacts& facts, size_t parameter) {
  uint8_t bits = 0;
  while (cursor_.peek().kind == TokenKind::Name) {
    auto bit = bit_of(cursor_.text(), mark_words());
    if (!bit) {
      cursor_.complain("this is no mark of a parameter", "sole, const or secret");
      return false;
    }
    cursor_.take();
    bits |= *bit;
  }
  facts.set_marks(parameter, bits);
  return true;
}

std::optional<Signature> ItemReader::signature_of(bool named, std::vector<Name>& names,
                                                  FunctionFacts& facts) {
  Signature out;
  out.parameters.reserve(4);
  if (!cursor_.expect('(', "before the parameters")) return std::nullopt;
  while (!cursor_.at_mark(')')) {
    if (!named && cursor_.at_mark('.')) {
      for (int k = 0; k < 3; ++k)
        if (!cursor_.expect('.', "in '...'")) return std::nullopt;
      out.variadic = true;
      break;
    }
    if (named) {
      Token t = cursor_.peek();
      auto name = cursor_.name("a parameter, name: type");
      if (!name || !cursor_.expect(':', "between a parameter and its type")) return std::nullopt;
      names.push_back(module().realm().name(*name));
      if (context_.names.has_value(names.back()))
        cursor_.complain(t, "a second parameter is called '" + *name + "'", "a name of its own");
      context_.names.define(names.back(), Value(names.size()));
    }
    auto type = read_type(cursor_, module());
    if (!type) return std::nullopt;
    if (!parameter_marks(facts, out.parameters.size())) return std::nullopt;
    out.parameters.push_back(*type);
    if (out.parameters.size() > Function::list_limit) {
      cursor_.complain("this function has more than 65535 parameters", "fewer");
      return std::nullopt;
    }
    if (!cursor_.accept(',')) break;
  }
  if (!cursor_.expect(')', "after the parameters")) return std::nullopt;
  if (!cursor_.accept('>')) return out;
  do {
    auto type = read_type(cursor_, module());
    if (!type) return std::nullopt;
    out.results.push_back(*type);
  } while (cursor_.accept(',') && out.results.size() < Function::list_limit);
  return out;
}

// permit … · keep small · never inline or prefer inline · what an external function is declared to do
bool ItemReader::function_facts(FunctionFacts& facts, bool is_external) {
  auto second_word = [&](std::string_view word) {
    if (cursor_.accept_word(word)) return true;
    cursor_.complain("'" + std::string(word) + "' is missing", std::string(word));
    return false;
  };
  if (cursor_.accept_word("permit")) {
    auto bits = read_words(cursor_, "permit", permit_words());
    if (!bits) return false;
    facts.permits = *bits;
  }
  if (cursor_.accept_word("keep")) {
    if (!second_word("small")) return false;
    facts.keep_small = true;
  }
  if (cursor_.at_word("never") || cursor_.at_word("prefer")) {
    facts.inlining = cursor_.at_word("never") ? Inlining::Never : Inlining::Prefer;
    cursor_.take();
    if (!second_word("inline")) return false;
  }
  if (!is_external || cursor_.at_line_end()) return true;
  auto bits = read_words(cursor_, "fact of an external function", outside_words());
  if (bits) facts.outside = *bits;
  return bits.has_value();
}

void ItemReader::function_header(const Linkage& linkage) {
  Token token = cursor_.peek();
  auto name = new_name("the function's name");
  std::vector<Name>& parameter_names = parameter_names_;
  parameter_names.clear();
  FunctionFacts facts;
  context_.names.next_function();
  auto signature = name ? signature_of(true, parameter_names, facts) : std::nullopt;
  if (signature && !(function_facts(facts, false) && cursor_.expect('{', "before the function's body")))
    signature.reset();
  if (!signature) return skip_body();
  cursor_.end_line();
  Symbol s = module().add_function(*name, std::move(*signature));
  SymbolRow& row = module()[s];
  row.is_local = linkage.is_local, row.is_weak = linkage.is_weak, row.section = linkage.section;
  row.facts = std::move(facts);
  for (size_t k = 0; k < parameter_names.size(); ++k)
    row.function->set_name(row.function->parameters()[k], parameter_names[k]);
  add_symbol(s, token);
  size_t start = cursor_.index();
  skip_body();
  late_.push_back({s, start, true, body_end_});
}

// To the line after the closing brace, which stands first on its line. It may have been forgotten: then the
// next function ends the body.
void ItemReader::skip_body() {
  const auto& ends = tokens_.body_ends;
  while (next_end_ < ends.size() && ends[next_end_] < cursor_.index()) ++next_end_;
  cursor_.go_to(next_end_ < ends.size() ? ends[next_end_] : tokens_.list.size() - Tokens::ends);
  body_end_ = cursor_.index();
  if (cursor_.at_mark('}')) cursor_.skip_line();
}

// Comments outside of bodies belong to what stands below them.
void ItemReader::gather_comments() {
  std::stable_sort(anchors_.begin(), anchors_.end(),
                   [](const Anchor& a, const Anchor& b) { return a.offset < b.offset; });
  size_t next = 0;
  for (const LoneComment& c : tokens_.comments) {
    while (next < anchors_.size() && anchors_[next].offset < c.offset) ++next;
    if (next > 0 && c.offset < anchors_[next - 1].body_end) continue;  // the function has it
    const Anchor at_end{0, Module::Comment::Above::End, 0, 0};
    const Anchor& below = next < anchors_.size() ? anchors_[next] : at_end;
    module().comments.push_back({below.above, below.index, c.text, below.part});
  }
}

}  // namespace text

ReadModule read_text(Realm& realm, const SourceText& source, const BodyRead& body_read) {
  if (source.text().size() < 0xfffffff0u) return text::ItemReader(realm, source).run(body_read);
  ReadModule out;
  out.module = std::make_unique<Module>(realm);
  out.problems.push_back(complaint("'" + source.name() + "' is larger than 4 GiB", "a smaller file"));
  return out;
}

}  // namespace porphyry
