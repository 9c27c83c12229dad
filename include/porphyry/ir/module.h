// A module: functions, data and externals under one roof, in the order they are written.
#pragma once

#include <memory>
#include <optional>
#include <string>
#include <variant>
#include <vector>

#include "porphyry/ir/function.h"

namespace porphyry {

// A run of bytes in a data item, written after `holds`.
struct DataPiece {
  enum class Kind : uint8_t { Numbers, Zero, Addresses, Bytes } kind = Kind::Zero;
  Type type;                      // Numbers
  std::vector<uint64_t> numbers;  // Numbers: bits of each
  uint64_t zero_bytes = 0;        // Zero
  std::vector<Symbol> symbols;    // Addresses
  std::string bytes;              // Bytes

  uint64_t size() const;  // in bytes
};

struct DataItem {
  bool is_const = false;
  uint32_t align = 1;
  std::vector<DataPiece> pieces;

  uint64_t size() const;
  // The bytes, with zeros where addresses go. Little-endian.
  std::vector<uint8_t> image() const;
  struct Reference {
    uint64_t offset;
    Symbol symbol;
  };
  std::vector<Reference> references() const;
};

enum class SymbolKind : uint8_t { Function, Data, ExternFunction, ExternData };

struct SymbolRow {
  Name name;
  SymbolKind kind;
  bool is_local = false;  // not seen outside the module
  std::unique_ptr<Function> function;
  DataItem data;
  Signature signature;  // of an external function
};

// Where in a source an instruction came from; `inlined_at` leads to the call's position, `merged_with` to
// another one that is just as true.
struct PositionRow {
  uint32_t source = 0;  // number given by a `source` line
  uint32_t line = 0;
  uint32_t column = 0;
  Position inlined_at;
  Position merged_with;
  bool operator==(const PositionRow&) const = default;
};

struct SourceFile {
  uint32_t number;
  std::string name;
};

class Module {
 public:
  explicit Module(Realm& realm, std::string_view name = "module");

  Realm& realm() const { return *realm_; }
  Name name() const { return name_; }
  void set_name(Name n) { name_ = n; }

  // Add a symbol. The name must be new in the module: see find().
  Symbol add_function(std::string_view name, Signature signature);
  Symbol add_data(std::string_view name, DataItem item);
  Symbol add_extern_function(std::string_view name, Signature signature);
  Symbol add_extern_data(std::string_view name);

  size_t symbol_count() const { return symbols_.size(); }
  SymbolRow& operator[](Symbol s) { return symbols_[s.index]; }
  const SymbolRow& operator[](Symbol s) const { return symbols_[s.index]; }
  Symbol find(std::string_view name) const;
  std::string_view text(Name n) const { return n.exists() ? realm_->text(n) : std::string_view(); }
  std::string_view symbol_name(Symbol s) const { return text(symbols_[s.index].name); }
  Function& function(Symbol s) { return *symbols_[s.index].function; }
  const Function& function(Symbol s) const { return *symbols_[s.index].function; }
  bool is_function(Symbol s) const { return symbols_[s.index].kind == SymbolKind::Function; }
  // What a call to this symbol takes and gives; nothing when it is data.
  const Signature* signature(Symbol s) const;

  Position add_position(PositionRow row);
  const PositionRow& position(Position p) const { return positions_[p]; }
  size_t position_count() const { return positions_.size(); }

  std::vector<SourceFile> sources;
  // Comments above the module line, above a symbol, or (neither) at the end of the file.
  struct Comment {
    Symbol above;
    bool at_top = false;
    std::string text;
  };
  std::vector<Comment> comments;

 private:
  Symbol add(SymbolRow row);

  Realm* realm_;
  Name name_;
  std::vector<SymbolRow> symbols_;
  SideTable<Name, Symbol> by_name_;
  Table<Position, PositionRow> positions_;
};

}  // namespace porphyry
