// A module: functions, data and externals under one roof, in the order they are written.
#pragma once

#include <memory>
#include <optional>
#include <string>
#include <variant>
#include <vector>

#include "porphyry/ir/function.h"
#include "porphyry/ir/kinds.h"
#include "porphyry/ir/words.h"

namespace porphyry {

enum class ByteOrder : uint8_t { Little, Big };

// How values lie in memory.
struct MemoryLayout {
  ByteOrder order = ByteOrder::Little;
  unsigned pointer_bits = 64;  // or 32
  bool operator==(const MemoryLayout&) const = default;
};

// A run of bytes in a data item, written after `holds`.
struct DataPiece {
  enum class Kind : uint8_t { Numbers, Zero, Addresses, Bytes } kind = Kind::Zero;
  Type type;                      // Numbers
  std::vector<uint64_t> numbers;  // Numbers: the words of each, see Type::words
  uint64_t zero_bytes = 0;        // Zero
  std::vector<Symbol> symbols;    // Addresses
  std::string bytes;              // Bytes
  bool operator==(const DataPiece&) const = default;

  uint64_t size(unsigned pointer_bits = 64) const;  // in bytes
};

struct DataItem {
  bool is_const = false;
  uint32_t align = 1;
  std::vector<DataPiece> pieces;
  bool operator==(const DataItem&) const = default;

  uint64_t size(unsigned pointer_bits = 64) const;
  // Whether all bytes are zeros and none belongs to an address. O(pieces and numbers), not O(bytes).
  bool is_zero() const;
  // The bytes, with zeros where addresses go.
  std::vector<uint8_t> image(const MemoryLayout& layout = {}) const;
  // The same into memory that holds zeros already, of which those of the item are not touched.
  void put_image(uint8_t* zeroed, const MemoryLayout& layout = {}) const;
  // Some of them; nothing where they do not all lie inside, or an address goes there. O(pieces + size).
  std::optional<std::vector<uint8_t>> bytes_at(uint64_t offset, uint64_t size,
                                               const MemoryLayout& layout = {}) const;
  struct Reference {
    uint64_t offset;
    Symbol symbol;
  };
  std::vector<Reference> references(unsigned pointer_bits = 64) const;
};

// One value in memory order: `words` as in a constant, `bytes` as many as the type takes. O(bytes).
void put_value(Type type, std::span<const uint64_t> words, ByteOrder order, uint8_t* bytes);
void get_value(Type type, const uint8_t* bytes, ByteOrder order, std::span<uint64_t> words);

enum class SymbolKind : uint8_t { Function, Data, ExternFunction, ExternData };

struct SymbolRow {
  Name name;
  SymbolKind kind;
  bool is_local = false;  // not seen outside the module
  bool is_weak = false;   // gives way to another of its name when linked
  std::string section;    // where it goes in an object file; empty: where its like go
  FunctionFacts facts;    // functions, external ones too
  std::unique_ptr<Function> function;
  DataItem data;
  Boxed<Signature> signature;  // of an external function
};

// Where in a source an instruction came from; `inlined_at` leads to the call's position, `merged_with` to
// another one that is just as true.
struct PositionRow {
  uint32_t source = 0;  // number given by a `source` line
  uint32_t line = 0;
  uint32_t column = 0;
  Position inlined_at{};
  Position merged_with{};
  Name inlined{};  // where it was inlined: the function it stands in
  bool operator==(const PositionRow&) const = default;
  // On the same line, in the same body.
  bool same_line(const PositionRow& o) const {
    return source == o.source && line == o.line && inlined_at == o.inlined_at;
  }
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
  MemoryLayout layout;
  Type pointer_type() const { return Type::pointer(layout.pointer_bits); }
  // The integer as wide as a pointer: indexes, numbers of bytes.
  Type index_type() const { return Type::integer(layout.pointer_bits); }
  Kinds kinds;

  // Add a symbol. The name should be new in the module: of two, `find` knows the first, and `verify` refuses
  // both.
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
  // Another body, and signature, for a function. O(size of both).
  void set_body(Symbol s, Function body) { *symbols_[s.index].function = std::move(body); }
  bool is_function(Symbol s) const { return symbols_[s.index].kind == SymbolKind::Function; }
  // The symbols of functions with a body, in order; those that are added meanwhile as well.
  class FunctionRange {
   public:
    explicit FunctionRange(const Module& module) : module_(&module) {}
    struct iterator {
      const Module* module;
      size_t k;
      Symbol operator*() const { return Symbol(k); }
      iterator& operator++() { return ++k, skip(); }
      iterator& skip() {
        while (k < module->symbol_count() && !module->is_function(Symbol(k))) ++k;
        return *this;
      }
      bool operator==(std::default_sentinel_t) const { return k >= module->symbol_count(); }
    };
    iterator begin() const { return iterator{module_, 0}.skip(); }
    std::default_sentinel_t end() const { return {}; }

   private:
    const Module* module_;
  };
  FunctionRange functions() const { return FunctionRange(*this); }
  // What a call to this symbol takes and gives; nothing when it is data.
  const Signature* signature(Symbol s) const;

  Position add_position(PositionRow row);
  const PositionRow& position(Position p) const { return positions_[p]; }
  // Room for so many more.
  void expect_positions(size_t more) { positions_.reserve(positions_.size() + more); }
  // So many at once, each `make(k)`: numbered one after the other from the one that is given.
  template <class Make>
  Position add_positions(size_t count, Make make) {
    Position first(positions_.size());
    PositionRow* row = positions_.rows().extend(count);
    for (size_t k = 0; k < count; ++k) *row++ = make(k);
    return first;
  }
  size_t position_count() const { return positions_.size(); }

  // Room for so many symbols, so that adding them moves none.
  void expect_symbols(size_t count) { symbols_.reserve(count); }
  // A symbol of any kind, as it is; its name must be new.
  Symbol add(SymbolRow row);
  // Gives a symbol another name, which must be new.
  void rename(Symbol s, Name name);
  // Memory held by the module and all it owns but its realm, in bytes.
  size_t bytes() const;
  void compact();

  std::vector<SourceFile> sources;
  // Comments that stand on lines of their own outside of functions, by what they stand above; KindsEnd: the
  // closing brace of a tree of kinds; End: the end of the file. Inside of a record or a data item: `part` is
  // the number of the member or element below, from 1; a record's closing brace comes behind its last member.
  struct Comment {
    enum class Above : uint8_t { Module, Symbol, Kinds, Kind, Record, KindsEnd, End } above;
    uint32_t index = 0;  // of the symbol, tree, kind or record
    std::string text;    // with its dashes
    uint32_t part = 0;   // Record, Symbol: 0: above all of it
  };
  std::vector<Comment> comments;

 private:
  Realm* realm_;
  Name name_;
  std::vector<SymbolRow> symbols_;
  SideTable<Name, Symbol> by_name_;
  Table<Position, PositionRow> positions_;
};

}  // namespace porphyry
