// Data items: data NAME const align n holds TYPE: numbers; zero: bytes; address: names; bytes: "…"
#include <algorithm>

#include "items.h"

namespace porphyry::text {

void ItemReader::data_header(const Linkage& linkage) {
  Token token = cursor_.peek();
  auto name = new_name("the data's name");
  if (name) {
    Symbol s = module().add_data(*name, {});
    SymbolRow& row = module()[s];
    row.is_local = linkage.is_local, row.is_weak = linkage.is_weak, row.section = linkage.section;
    add_symbol(s, token);
    late_.push_back({s, cursor_.index(), false});
  }
  skip_data();
}

// A data item goes on over the line's end after a comma, a colon or a semicolon.
bool ItemReader::line_goes_on(const Token& before) const {
  return before.kind == TokenKind::Mark && (before.mark == ',' || before.mark == ';' || before.mark == ':');
}

void ItemReader::skip_data() {
  Token before = cursor_.peek();
  while (!cursor_.at_end() && (!cursor_.at_line_end() || line_goes_on(before))) {
    if (!cursor_.at_line_end()) before = cursor_.peek();
    cursor_.take();
  }
  if (!cursor_.at_end()) cursor_.take();
}

// To the element with this number, which may stand on a line of its own, with comments above.
void ItemReader::next_element(Symbol s, size_t number) {
  bool goes_on = cursor_.peek().kind == TokenKind::LineEnd;
  while (cursor_.peek().kind == TokenKind::LineEnd) cursor_.take();
  if (goes_on) anchor(cursor_.peek().offset, Module::Comment::Above::Symbol, s.index, number);
}

void ItemReader::data_contents(Symbol s) {
  DataItem item;
  item.is_const = cursor_.accept_word("const");
  if (cursor_.accept_word("align")) {
    auto align = cursor_.alignment(4096);
    if (!align) return;
    item.align = *align;
  }
  if (!cursor_.accept_word("holds")) return cursor_.complain("'holds' is missing", "holds TYPE: numbers");
  size_t element = 1;
  do {
    next_element(s, element);
    auto piece = data_piece(s, element);
    if (!piece) return;
    item.pieces.push_back(std::move(*piece));
  } while (cursor_.accept(';'));
  module()[s].data = std::move(item);
  cursor_.end_line();
}

std::optional<DataPiece> ItemReader::data_piece(Symbol s, size_t& element) {
  DataPiece piece;
  if (cursor_.accept_word("zero"))
    piece.kind = DataPiece::Kind::Zero;
  else if (cursor_.accept_word("address"))
    piece.kind = DataPiece::Kind::Addresses;
  else if (cursor_.accept_word("bytes"))
    piece.kind = DataPiece::Kind::Bytes;
  else
    piece.kind = DataPiece::Kind::Numbers;
  if (piece.kind == DataPiece::Kind::Numbers) {
    auto type = read_type(cursor_, module());
    if (!type) return std::nullopt;
    piece.type = *type;
  }
  if (!cursor_.expect(':', "after what the data holds")) return std::nullopt;
  do {
    next_element(s, element++);
    if (!data_element(piece)) return std::nullopt;
  } while (cursor_.accept(','));
  return piece;
}

bool ItemReader::data_element(DataPiece& piece) {
  Token t = cursor_.peek();
  auto refuse = [&](std::string message, std::string expected) {
    cursor_.complain(t, std::move(message), std::move(expected));
    return false;
  };
  switch (piece.kind) {
    case DataPiece::Kind::Addresses: {
      auto name = cursor_.name("the name of a function or data");
      if (!name) return false;
      Symbol s = module().find(*name);
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
      auto n = cursor_.number(uint64_t(1) << 32);
      if (!n) return refuse("this is not a number of bytes up to 2^32", "zero: 256");
      piece.zero_bytes += *n;
      return true;
    }
    case DataPiece::Kind::Numbers: return data_number(piece);
  }
  return false;
}

// A number, which fills all lanes of its type, or {one, for, each, lane}.
bool ItemReader::data_number(DataPiece& piece) {
  Token t = cursor_.peek();
  size_t before = piece.numbers.size();
  if (!cursor_.accept('{')) {
    if (!data_number_lane(piece)) return false;
    unsigned step = piece.type.words_per_lane();
    if (piece.type.has_lanes() &&
        (context_.budget -= std::min<uint64_t>(context_.budget, piece.type.words())) == 0) {
      cursor_.complain(t, "the constants with lanes take more than 128 MiB", "fewer of them");
      return false;
    }
    for (unsigned k = 1; k < piece.type.lanes(); ++k)
      for (unsigned w = 0; w < step; ++w) piece.numbers.push_back(piece.numbers[piece.numbers.size() - step]);
    return true;
  }
  do {
    if (!data_number_lane(piece)) return false;
  } while (cursor_.accept(','));
  if (!cursor_.expect('}', "after the lanes")) return false;
  size_t lanes = (piece.numbers.size() - before) / piece.type.words_per_lane();
  if (lanes == piece.type.lanes()) return true;
  cursor_.complain(t,
                   "these are " + std::to_string(lanes) + " lanes, and the data holds " + piece.type.name(),
                   std::to_string(piece.type.lanes()) + " numbers, or one for all");
  return false;
}

bool ItemReader::data_number_lane(DataPiece& piece) {
  Token t = cursor_.take();
  std::string_view word = cursor_.text(t);
  if (word.ends_with("nan") && cursor_.accept('(')) {
    cursor_.take();
    cursor_.expect(')', "after a nan's bits");
    word = cursor_.span(t, cursor_.previous());
  }
  auto bits = literal_bits(word, piece.type);
  if (!bits) {
    std::string type = piece.type.element().name();
    cursor_.complain(t, "'" + std::string(word.substr(0, 100)) + "' is not a number of type " + type,
                     "a number of type " + type);
    return false;
  }
  piece.numbers.push_back(static_cast<uint64_t>(*bits));
  if (piece.type.words_per_lane() == 2) piece.numbers.push_back(static_cast<uint64_t>(*bits >> 64));
  return true;
}

}  // namespace porphyry::text
