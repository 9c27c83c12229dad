#include "porphyry/ir/module.h"

namespace porphyry {

uint64_t DataPiece::size() const {
  switch (kind) {
    case Kind::Numbers: return uint64_t(type.bytes()) * numbers.size();
    case Kind::Zero: return zero_bytes;
    case Kind::Addresses: return 8 * symbols.size();
    case Kind::Bytes: return bytes.size();
  }
  return 0;
}

uint64_t DataItem::size() const {
  uint64_t total = 0;
  for (const DataPiece& piece : pieces) total += piece.size();
  return total;
}

std::vector<uint8_t> DataItem::image() const {
  std::vector<uint8_t> out;
  for (const DataPiece& piece : pieces) {
    for (uint64_t number : piece.numbers)
      for (unsigned k = 0; k < piece.type.bytes(); ++k) out.push_back(static_cast<uint8_t>(number >> 8 * k));
    out.insert(out.end(), piece.bytes.begin(), piece.bytes.end());
    out.resize(out.size() + piece.zero_bytes + 8 * piece.symbols.size());
  }
  return out;
}

std::vector<DataItem::Reference> DataItem::references() const {
  std::vector<Reference> out;
  uint64_t offset = 0;
  for (const DataPiece& piece : pieces) {
    for (size_t k = 0; k < piece.symbols.size(); ++k) out.push_back({offset + 8 * k, piece.symbols[k]});
    offset += piece.size();
  }
  return out;
}

Module::Module(Realm& realm, std::string_view name) : realm_(&realm), name_(realm.name(name)) {}

Symbol Module::add(SymbolRow row) {
  Symbol s(symbols_.size());
  assert(!by_name_.get(row.name).exists());
  by_name_.set(row.name, s);
  symbols_.push_back(std::move(row));
  return s;
}

Symbol Module::add_function(std::string_view name, Signature signature) {
  SymbolRow row{realm_->name(name), SymbolKind::Function, false, nullptr, {}, {}};
  row.function = std::make_unique<Function>(std::move(signature));
  return add(std::move(row));
}

Symbol Module::add_data(std::string_view name, DataItem item) {
  return add({realm_->name(name), SymbolKind::Data, false, nullptr, std::move(item), {}});
}

Symbol Module::add_extern_function(std::string_view name, Signature signature) {
  return add({realm_->name(name), SymbolKind::ExternFunction, false, nullptr, {}, std::move(signature)});
}

Symbol Module::add_extern_data(std::string_view name) {
  return add({realm_->name(name), SymbolKind::ExternData, false, nullptr, {}, {}});
}

Symbol Module::find(std::string_view name) const {
  Name n = realm_->find(name);
  return n.exists() ? by_name_.get(n) : Symbol();
}

const Signature* Module::signature(Symbol s) const {
  const SymbolRow& row = symbols_[s.index];
  if (row.kind == SymbolKind::Function) return &row.function->signature();
  return row.kind == SymbolKind::ExternFunction ? &row.signature : nullptr;
}

Position Module::add_position(PositionRow row) {
  if (!positions_.empty()) {  // neighbours often share a position
    Position last(positions_.size() - 1);
    if (positions_[last] == row) return last;
  }
  return positions_.add(row);
}

}  // namespace porphyry
