#include "porphyry/text/reader.h"

#include <cerrno>
#include <cstring>
#include <fstream>
#include <sstream>

#include "body_reader.h"
#include "porphyry/text/literals.h"

namespace porphyry {
namespace text {
namespace {

// Reads the items of a module: headers in a first walk, so that they may stand in any order, then bodies and
// data.
class ItemReader {
 public:
  ItemReader(Realm& realm, const SourceText& source)
      : source_(source), tokens_(tokenize(source)), cursor_(source_, tokens_.list, out_.problems) {
    out_.module = std::make_unique<Module>(realm);
    out_.problems = std::move(tokens_.problems);
  }

  ReadModule run() {
    while (!cursor_.at_end()) header();
    for (const Late& late : late_) {
      cursor_.go_to(late.token);
      if (late.is_body) {
        ReadContext context{*out_.module, source_, tokens_, out_.problems, names_};
        body_ends_.resize(item_starts_.size());
        body_ends_[late.symbol.index] =
            read_body(context, cursor_, late.symbol, out_.places.bodies[late.symbol.index]);
      } else {
        data_contents(late.symbol);
      }
    }
    gather_comments();
    std::stable_sort(out_.problems.begin(), out_.problems.end(),
                     [](const Diagnostic& a, const Diagnostic& b) {
                       return std::pair(a.line, a.column) < std::pair(b.line, b.column);
                     });
    return std::move(out_);
  }

 private:
  struct Late {  // what is read in the second walk
    Symbol symbol;
    size_t token;
    bool is_body;
  };

  void header() {
    item_offset_ = cursor_.peek().offset;
    bool local = cursor_.accept_word("local");
    if (cursor_.accept_word("module")) return module_line();
    if (cursor_.accept_word("layout")) return layout_line();
    if (cursor_.accept_word("source")) return source_line();
    if (cursor_.accept_word("extern")) return extern_line();
    if (cursor_.accept_word("func")) return function_header(local);
    if (cursor_.accept_word("data")) return data_header(local);
    cursor_.complain("a module's item is missing here", "module, layout, source, data, extern or func");
    cursor_.skip_line();
  }

  void module_line() {
    module_offset_ = item_offset_;
    if (auto name = cursor_.name("the module's name"))
      out_.module->set_name(out_.module->realm().name(*name));
    cursor_.end_line();
  }

  void layout_line() {
    if (!cursor_.accept_word("little")) cursor_.complain("this byte order is not known", "little");
    cursor_.end_line();
  }

  void source_line() {
    auto number = cursor_.peek().kind == TokenKind::Integer ? integer_bits(cursor_.text(), Type::integer(32))
                                                            : std::nullopt;
    if (!number) {
      cursor_.complain("a source has a number", "source 1 \"name\"");
      return cursor_.skip_line();
    }
    cursor_.take();
    if (auto name = cursor_.name("the source's name in quotes"))
      out_.module->sources.push_back({static_cast<uint32_t>(*number), *name});
    cursor_.end_line();
  }

  // A name for a new symbol; nothing (and a complaint) when it is taken.
  std::optional<std::string> new_name(std::string_view what) {
    Token t = cursor_.peek();
    auto name = cursor_.name(what);
    if (name && out_.module->find(*name).exists()) {
      cursor_.complain(t, "a second item is called '" + *name + "'",
                       "a name that no other item of the module has");
      return std::nullopt;
    }
    return name;
  }

  void add_places(Token name) {
    out_.places.bodies.resize(out_.module->symbol_count());
    out_.places.bodies.back().header = {name.offset, name.length};
    item_starts_.push_back(item_offset_);
  }

  void extern_line() {
    bool is_data = cursor_.accept_word("data");
    if (!is_data && !cursor_.accept_word("func")) {
      cursor_.complain("what is external is not said", "extern func or extern data");
      return cursor_.skip_line();
    }
    Token token = cursor_.peek();
    auto name = new_name("the name of what is external");
    if (name && is_data) out_.module->add_extern_data(*name);
    if (name && !is_data) {
      std::vector<std::string> ignored;
      auto signature = signature_of(false, ignored);
      if (!signature) return cursor_.skip_line();
      out_.module->add_extern_function(*name, *signature);
    }
    if (!name) return cursor_.skip_line();
    add_places(token);
    cursor_.end_line();
  }

  std::optional<Signature> signature_of(bool named, std::vector<std::string>& names) {
    Signature out;
    if (!cursor_.expect('(', "before the parameters")) return std::nullopt;
    while (!cursor_.at_mark(')')) {
      if (named) {
        Token t = cursor_.peek();
        auto name = cursor_.name("a parameter, name: type");
        if (!name || !cursor_.expect(':', "between a parameter and its type")) return std::nullopt;
        if (std::find(names.begin(), names.end(), *name) != names.end())
          cursor_.complain(t, "a second parameter is called '" + *name + "'", "a name of its own");
        names.push_back(*name);
      }
      auto type = read_type(cursor_);
      if (!type) return std::nullopt;
      out.parameters.push_back(*type);
      if (!cursor_.accept(',')) break;
    }
    if (!cursor_.expect(')', "after the parameters")) return std::nullopt;
    if (!cursor_.accept('>')) return out;
    do {
      auto type = read_type(cursor_);
      if (!type) return std::nullopt;
      out.results.push_back(*type);
    } while (cursor_.accept(','));
    return out;
  }

  void function_header(bool local) {
    Token token = cursor_.peek();
    auto name = new_name("the function's name");
    std::vector<std::string> parameter_names;
    auto signature = name ? signature_of(true, parameter_names) : std::nullopt;
    if (signature && !cursor_.expect('{', "before the function's body")) signature.reset();
    if (!signature) return skip_body();
    cursor_.end_line();
    Symbol s = out_.module->add_function(*name, *signature);
    (*out_.module)[s].is_local = local;
    Function& f = out_.module->function(s);
    for (size_t k = 0; k < parameter_names.size(); ++k)
      f.set_name(f.parameters()[k], out_.module->realm().name(parameter_names[k]));
    add_places(token);
    late_.push_back({s, cursor_.index(), true});
    skip_body();
  }

  // To the line after the closing brace, which stands first on its line.
  void skip_body() {
    while (!cursor_.at_end() && !cursor_.at_mark('}')) {
      if (cursor_.at_word("func") && cursor_.at_name(1)) return;  // a brace was forgotten
      cursor_.skip_line();
    }
    cursor_.skip_line();
  }

  void data_header(bool local) {
    Token token = cursor_.peek();
    auto name = new_name("the data's name");
    if (name) {
      Symbol s = out_.module->add_data(*name, {});
      (*out_.module)[s].is_local = local;
      add_places(token);
      late_.push_back({s, cursor_.index(), false});
    }
    skip_data();
  }

  // A data item goes on over the line's end after a comma, a colon or a semicolon.
  bool line_goes_on(const Token& before) const {
    return before.kind == TokenKind::Mark && (before.mark == ',' || before.mark == ';' || before.mark == ':');
  }
  void skip_data() {
    Token before = cursor_.peek();
    while (!cursor_.at_end() && (!cursor_.at_line_end() || line_goes_on(before))) {
      if (!cursor_.at_line_end()) before = cursor_.peek();
      cursor_.take();
    }
    if (!cursor_.at_end()) cursor_.take();
  }
  void skip_line_ends() {
    while (cursor_.peek().kind == TokenKind::LineEnd) cursor_.take();
  }

  void data_contents(Symbol s) {
    DataItem item;
    item.is_const = cursor_.accept_word("const");
    if (cursor_.accept_word("align")) {
      auto n = cursor_.peek().kind == TokenKind::Integer ? integer_bits(cursor_.text(), Type::integer(32))
                                                         : std::nullopt;
      if (!n || *n == 0 || (*n & (*n - 1)) != 0 || *n > 4096)
        return cursor_.complain("this alignment is not a power of two up to 4096", "1, 2, 4, 8, …");
      cursor_.take();
      item.align = static_cast<uint32_t>(*n);
    }
    if (!cursor_.accept_word("holds")) return cursor_.complain("'holds' is missing", "holds TYPE: numbers");
    do {
      skip_line_ends();
      auto piece = data_piece();
      if (!piece) return;
      item.pieces.push_back(std::move(*piece));
    } while (cursor_.accept(';'));
    (*out_.module)[s].data = std::move(item);
    cursor_.end_line();
  }

  std::optional<DataPiece> data_piece() {
    DataPiece piece;
    bool is_zero = cursor_.accept_word("zero"), is_address = !is_zero && cursor_.accept_word("address");
    bool is_bytes = !is_zero && !is_address && cursor_.accept_word("bytes");
    piece.kind = is_zero      ? DataPiece::Kind::Zero
                 : is_address ? DataPiece::Kind::Addresses
                 : is_bytes   ? DataPiece::Kind::Bytes
                              : DataPiece::Kind::Numbers;
    if (piece.kind == DataPiece::Kind::Numbers) {
      auto type = read_type(cursor_);
      if (!type) return std::nullopt;
      piece.type = *type;
    }
    if (!cursor_.expect(':', "after what the data holds")) return std::nullopt;
    do {
      skip_line_ends();
      if (!data_element(piece)) return std::nullopt;
    } while (cursor_.accept(','));
    return piece;
  }

  bool data_element(DataPiece& piece) {
    Token t = cursor_.peek();
    auto refuse = [&](std::string message, std::string expected) {
      cursor_.complain(t, std::move(message), std::move(expected));
      return false;
    };
    switch (piece.kind) {
      case DataPiece::Kind::Addresses: {
        auto name = cursor_.name("the name of a function or data");
        if (!name) return false;
        Symbol s = out_.module->find(*name);
        if (!s.exists())
          return refuse("nothing in the module is called '" + *name + "'", "the name of a function or data");
        piece.symbols.push_back(s);
        return true;
      }
      case DataPiece::Kind::Bytes:
        if (t.kind != TokenKind::Quoted) return refuse("bytes are written in quotes", "bytes: \"…\"");
        piece.bytes += unquoted(cursor_.text(cursor_.take()));
        return true;
      case DataPiece::Kind::Zero: {
        auto n =
            t.kind == TokenKind::Integer ? integer_bits(cursor_.text(), Type::integer(64)) : std::nullopt;
        if (!n || *n > (uint64_t(1) << 32))
          return refuse("this is not a number of bytes up to 2^32", "zero: 256");
        cursor_.take();
        piece.zero_bytes += *n;
        return true;
      }
      case DataPiece::Kind::Numbers: break;
    }
    cursor_.take();
    std::string word(cursor_.text(t));
    if (word.ends_with("nan") && cursor_.accept('(')) {
      word += "(" + std::string(cursor_.text(cursor_.take())) + ")";
      cursor_.expect(')', "after a nan's bits");
    }
    auto bits = literal_bits(word, piece.type);
    if (!bits)
      return refuse("'" + word + "' is not a number of type " + piece.type.name(),
                    "a number of type " + piece.type.name());
    piece.numbers.push_back(*bits);
    return true;
  }

  // Comments outside of bodies belong to the item below them.
  void gather_comments() {
    body_ends_.resize(item_starts_.size());
    size_t item = 0;
    for (const LoneComment& c : tokens_.comments) {
      while (item < item_starts_.size() && item_starts_[item] < c.offset) ++item;
      if (item > 0 && c.offset < body_ends_[item - 1]) continue;  // the function has it
      out_.module->comments.push_back(
          {item < item_starts_.size() ? Symbol(item) : Symbol(), c.offset < module_offset_, c.text});
    }
  }
  const SourceText& source_;
  ReadModule out_;
  Tokens tokens_;
  Cursor cursor_;
  Names names_;
  std::vector<Late> late_;
  std::vector<uint32_t> item_starts_, body_ends_;  // by symbol
  uint32_t module_offset_ = 0;                     // of the module line
  uint32_t item_offset_ = 0;
};

}  // namespace
}  // namespace text

ReadModule read_text(Realm& realm, const SourceText& source) { return text::ItemReader(realm, source).run(); }

Result<std::string> read_file(const std::string& path) {
  std::ifstream in(path, std::ios::binary);
  std::ostringstream bytes;
  if (in && in.peek() != EOF) bytes << in.rdbuf();
  if (!in.is_open() || in.bad() || bytes.fail())
    return complaint("cannot read '" + path + "': " + std::strerror(errno ? errno : EIO),
                     "a file that can be read");
  return bytes.str();
}

}  // namespace porphyry
