#include "porphyry/ir/module.h"

#include <algorithm>

namespace porphyry {

uint64_t DataPiece::size(unsigned pointer_bits) const {
  switch (kind) {
    case Kind::Numbers: return numbers.empty() ? 0 : uint64_t(type.bytes()) * (numbers.size() / type.words());
    case Kind::Zero: return zero_bytes;
    case Kind::Addresses: return uint64_t(pointer_bits / 8) * symbols.size();
    case Kind::Bytes: return bytes.size();
  }
  return 0;
}

uint64_t DataItem::size(unsigned pointer_bits) const {
  uint64_t total = 0;
  for (const DataPiece& piece : pieces) total += piece.size(pointer_bits);
  return total;
}

namespace {

void put_integer(const uint64_t* words, unsigned bytes, ByteOrder order, uint8_t* out) {
  for (unsigned k = 0; k < bytes; ++k)
    out[order == ByteOrder::Little ? k : bytes - 1 - k] = static_cast<uint8_t>(words[k / 8] >> 8 * (k % 8));
}

// Spare bits are ignored.
void get_integer(const uint8_t* in, unsigned bytes, unsigned bits, ByteOrder order, uint64_t* words) {
  for (unsigned k = 0; k < (bits + 63) / 64; ++k) words[k] = 0;
  for (unsigned k = 0; k < bytes; ++k)
    words[k / 8] |= uint64_t(in[order == ByteOrder::Little ? k : bytes - 1 - k]) << 8 * (k % 8);
  unsigned top = bits % 64;
  if (top) words[bits / 64] &= (uint64_t(1) << top) - 1;
}

}  // namespace

void put_value(Type type, std::span<const uint64_t> words, ByteOrder order, uint8_t* bytes) {
  if (type.is_bool() && type.has_lanes()) {  // one integer of as many bits
    std::vector<uint64_t> packed((type.lanes() + 63) / 64);
    for (unsigned k = 0; k < type.lanes(); ++k) packed[k / 64] |= (words[k] & 1) << k % 64;
    return put_integer(packed.data(), type.bytes(), order, bytes);
  }
  unsigned step = type.words_per_lane(), each = type.element_bytes();
  for (unsigned k = 0; k < type.lanes(); ++k) put_integer(&words[k * step], each, order, bytes + k * each);
}

void get_value(Type type, const uint8_t* bytes, ByteOrder order, std::span<uint64_t> words) {
  if (type.is_bool() && type.has_lanes()) {
    std::vector<uint64_t> packed((type.lanes() + 63) / 64);
    get_integer(bytes, type.bytes(), type.lanes(), order, packed.data());
    for (unsigned k = 0; k < type.lanes(); ++k) words[k] = packed[k / 64] >> k % 64 & 1;
    return;
  }
  unsigned step = type.words_per_lane(), each = type.element_bytes();
  for (unsigned k = 0; k < type.lanes(); ++k)
    get_integer(bytes + k * each, each, type.bits(), order, &words[k * step]);
}

bool DataItem::is_zero() const {
  return std::all_of(pieces.begin(), pieces.end(), [](const DataPiece& p) {
    return p.symbols.empty() &&
           std::all_of(p.numbers.begin(), p.numbers.end(), [](uint64_t n) { return n == 0; }) &&
           std::all_of(p.bytes.begin(), p.bytes.end(), [](char c) { return c == 0; });
  });
}

std::vector<uint8_t> DataItem::image(const MemoryLayout& layout) const {
  std::vector<uint8_t> out(size(layout.pointer_bits));
  put_image(out.data(), layout);
  return out;
}

void DataItem::put_image(uint8_t* at, const MemoryLayout& layout) const {
  for (const DataPiece& piece : pieces) {
    unsigned step = piece.numbers.empty() ? 1 : piece.type.words();
    for (size_t k = 0; k < piece.numbers.size(); k += step)
      put_value(piece.type, {&piece.numbers[k], step}, layout.order, at + k / step * piece.type.bytes());
    std::copy(piece.bytes.begin(), piece.bytes.end(), at);
    at += piece.size(layout.pointer_bits);
  }
}

std::optional<std::vector<uint8_t>> DataItem::bytes_at(uint64_t offset, uint64_t size,
                                                       const MemoryLayout& layout) const {
  uint64_t all = this->size(layout.pointer_bits), end = offset + size, start = 0;
  if (size > all || offset > all - size) return std::nullopt;
  std::vector<uint8_t> out(size);
  auto put = [&](uint64_t at, const uint8_t* bytes, uint64_t count) {
    for (uint64_t k = std::max(at, offset); k < std::min(at + count, end); ++k)
      out[k - offset] = bytes[k - at];
  };
  for (const DataPiece& piece : pieces) {
    uint64_t length = piece.size(layout.pointer_bits);
    bool meets = start < end && offset < start + length;
    if (meets && !piece.symbols.empty()) return std::nullopt;
    if (meets && !piece.numbers.empty()) {
      uint64_t step = piece.type.words(), each = piece.type.bytes();
      std::vector<uint8_t> one(each);
      for (uint64_t k = offset > start ? (offset - start) / each : 0;
           k * step < piece.numbers.size() && start + k * each < end; ++k) {
        put_value(piece.type, {&piece.numbers[k * step], step}, layout.order, one.data());
        put(start + k * each, one.data(), each);
      }
    }
    if (meets && !piece.bytes.empty())
      put(start, reinterpret_cast<const uint8_t*>(piece.bytes.data()), piece.bytes.size());
    start += length;
  }
  return out;
}

std::vector<DataItem::Reference> DataItem::references(unsigned pointer_bits) const {
  std::vector<Reference> out;
  uint64_t offset = 0;
  for (const DataPiece& piece : pieces) {
    for (size_t k = 0; k < piece.symbols.size(); ++k)
      out.push_back({offset + pointer_bits / 8 * k, piece.symbols[k]});
    offset += piece.size(pointer_bits);
  }
  return out;
}

Module::Module(Realm& realm, std::string_view name) : realm_(&realm), name_(realm.name(name)) {}

Symbol Module::add(SymbolRow row) {
  Symbol s(symbols_.size());
  if (!by_name_.get(row.name).exists()) by_name_.set(row.name, s);
  symbols_.push_back(std::move(row));
  return s;
}

Symbol Module::add_function(std::string_view name, Signature signature) {
  SymbolRow row{.name = realm_->name(name), .kind = SymbolKind::Function};
  row.function = std::make_unique<Function>(std::move(signature));
  return add(std::move(row));
}

Symbol Module::add_data(std::string_view name, DataItem item) {
  return add({.name = realm_->name(name), .kind = SymbolKind::Data, .data = std::move(item)});
}

Symbol Module::add_extern_function(std::string_view name, Signature signature) {
  return add(
      {.name = realm_->name(name), .kind = SymbolKind::ExternFunction, .signature = std::move(signature)});
}

Symbol Module::add_extern_data(std::string_view name) {
  return add({.name = realm_->name(name), .kind = SymbolKind::ExternData});
}

void Module::rename(Symbol s, Name name) {
  assert(!by_name_.get(name).exists());
  by_name_.set(symbols_[s.index].name, {});
  by_name_.set(name, s);
  symbols_[s.index].name = name;
}

size_t Module::bytes() const {
  size_t total =
      sizeof(*this) + symbols_.capacity() * sizeof(SymbolRow) + by_name_.bytes() + positions_.bytes();
  for (const SymbolRow& row : symbols_) {
    if (row.function) total += row.function->bytes();
    for (const DataPiece& p : row.data.pieces)
      total += sizeof(p) + p.numbers.capacity() * 8 + p.symbols.capacity() * 4 + p.bytes.capacity();
  }
  return total;
}

void Module::compact() {
  symbols_.shrink_to_fit(), positions_.shrink_to_fit(), by_name_.shrink_to_fit();
  for (SymbolRow& row : symbols_)
    if (row.function) row.function->compact();
}

Symbol Module::find(std::string_view name) const {
  Name n = realm_->find(name);
  return n.exists() ? by_name_.get(n) : Symbol();
}

const Signature* Module::signature(Symbol s) const {
  const SymbolRow& row = symbols_[s.index];
  if (row.kind == SymbolKind::Function) return &row.function->signature();
  return row.kind == SymbolKind::ExternFunction ? row.signature.get() : nullptr;
}

Position Module::add_position(PositionRow row) {
  if (!positions_.empty()) {  // neighbours often share a position
    Position last(positions_.size() - 1);
    if (positions_[last] == row) return last;
  }
  return positions_.add(row);
}

}  // namespace porphyry
