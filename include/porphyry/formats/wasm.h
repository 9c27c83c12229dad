// WebAssembly, the open byte code of the web, read as IR: core specification, release 2 (W3C, 2022).
//
//   Realm realm;
//   auto program = read_wasm(realm, "frost.wasm", bytes);
//   if (!program) …                                 // program.why(): each wrong function, with its offset
//   write_text(*program->module);
//
// An instance is a block of memory that the program itself lays out: records of its functions, tables and
// memories, its globals, what is left of its segments. Every function takes the instance's address before its
// own parameters, so that instances live side by side. `set_up` fills an instance that is all zeros, from an
// array of what it imports, and runs the start function; `tear_down` gives back what it holds. The words of
// records are little-endian and eight bytes long:
//
//   function   code, context (its first argument), type (type_number)
//   table      elements, how many, how many there may be; an element is the address of a function's record,
//   or
//              a host's word; 0: null
//   memory     bytes, how many, how many pages there may be
//   global     its value, in 16 bytes
//
// The array of imports has the address of such a record or global for each import, in order.
//
// Programs want three routines of their host, named in wasm_storage; `storage_text` defines them upon the C
// library's calloc and free.
//
// Functions are valid SSA without memory for locals. What may trap is a comparison and `trap`; the position
// of each instruction is its offset in the file, as a line of source 1; where the module carries line tables
// for debuggers (DWARF), it is the line there, and the offset stands behind `and`.
#pragma once

#include <memory>
#include <optional>
#include <string>
#include <string_view>
#include <vector>

#include "porphyry/base/diagnostics.h"
#include "porphyry/ir/module.h"

namespace porphyry::wasm {

enum class ValueType : uint8_t {
  Unknown = 0,  // only while code is read
  I32 = 0x7f,
  I64 = 0x7e,
  F32 = 0x7d,
  F64 = 0x7c,
  V128 = 0x7b,
  FuncRef = 0x70,
  ExternRef = 0x6f
};
std::string_view type_name(ValueType t);  // "i32"
// References are pointers; v128 is i32[4].
Type ir_type(ValueType t);

struct FunctionType {
  std::vector<ValueType> parameters, results;
  bool operator==(const FunctionType&) const = default;
  std::string text() const;  // "(i32, f64) -> i64"
};
// What records say of a function's type. Types of up to 20 values have numbers of their own; those of longer
// ones are 63 bits of a hash.
uint64_t type_number(const FunctionType& type);

struct Limits {
  uint32_t least = 0;
  std::optional<uint32_t> most;
};

constexpr uint64_t page_bytes = 65536;
constexpr uint32_t page_limit = 65536;
// How far a memory grows. Where nothing is said one page stays free, so that no address near 2^32 is in it.
constexpr uint32_t most_pages(const Limits& limits) {
  return limits.most ? *limits.most : std::max(limits.least, page_limit - 1);
}
constexpr uint64_t element_limit = 10'000'000;  // of a table

enum class Kind : uint8_t { Function, Table, Memory, Global };
std::string_view kind_name(Kind k);

// Places are offsets in the instance.
constexpr uint32_t no_place = 0xffffffff;

struct FunctionRow {
  uint32_t type;               // of Program::types
  std::string name;            // of the name section; empty: none
  Symbol symbol = {};          // what runs it; nothing for one that is imported and not exported again
  uint32_t record = no_place;  // of imported ones, and those that may be called through tables
  bool imported = false;
};
struct TableRow {
  ValueType element;
  Limits limits;
  uint32_t place = no_place;  // of its record; of an imported one: where its record's address is
  bool imported = false;
};
struct MemoryRow {
  Limits limits;              // in pages
  uint32_t place = no_place;  // as a table's
  bool imported = false;
};
struct GlobalRow {
  ValueType type;
  bool is_mutable;
  uint32_t place = no_place;  // likewise
  bool imported = false;
};
struct Import {
  std::string module, name;
  Kind kind;
  uint32_t index;  // of functions, tables, …
};
struct Export {
  std::string name;
  Kind kind;
  uint32_t index;
};

struct Program {
  std::unique_ptr<Module> module;
  std::vector<FunctionType> types;
  std::vector<FunctionRow> functions;
  std::vector<TableRow> tables;
  std::vector<MemoryRow> memories;
  std::vector<GlobalRow> globals;
  std::vector<Import> imports;
  std::vector<Export> exports;
  Symbol set_up;     // func (instance: ptr, imports: ptr)
  Symbol tear_down;  // func (instance: ptr)
  // func (instance: ptr, pages: i32) -> i32, as the instruction memory.grow; nothing without a memory.
  Symbol grow_memory;
  uint32_t instance_bytes = 0;
  bool guarded = false;
  // Accesses of memory that were read without a check of their own: at constants below the least size, and
  // behind a check in the same block that covers them. None where memories are guarded.
  size_t spared_checks = 0;

  const FunctionType& type_of(uint32_t function) const { return types[functions[function].type]; }
  // Null when nothing is exported by that name.
  const Export* find_export(std::string_view name) const;
};

struct ReadOptions {
  // Accesses to memory have no comparison: the host lays memories out so that what is outside of them faults
  // (guarded_bytes of addresses, of which only the memory's own are accessible), and reports the fault as a
  // trap.
  bool guarded = false;
  // How many threads may read functions; 0: as many as the processor has. What comes out is the same.
  unsigned threads = 0;
};
// Every offset that code can form, and the widest access there.
constexpr uint64_t guarded_bytes = (uint64_t(1) << 33) + page_bytes;

// Whether bytes begin as a WebAssembly module does.
bool is_wasm(std::string_view bytes);

// Reads and validates. Of a module that is wrong all that can be found is told: one mistake of the sections,
// or one of each function. Time and memory stay in proportion to the bytes, whatever they are.
Result<Program> read_wasm(Realm& realm, const std::string& name, std::string_view bytes,
                          const ReadOptions& options = {});

// What a program asks of its host:
//
//   claim(bytes, capacity)  zeros, or null; as many more may be asked for in place as the capacity has
//   extend(at, bytes)       whether the piece has so many bytes now, in its place, new ones zeros
//   release(at)             of null: nothing
constexpr std::string_view storage_claim = "storage.claim", storage_extend = "storage.extend",
                           storage_release = "storage.release";
// A module that defines them by calloc and free.
std::string_view storage_text();

// Why an instruction of the byte code may trap, by the bytes at its offset: "an access outside of the
// memory".
std::string_view trap_reason(std::string_view bytes, uint32_t offset);
// Its name: "i32.load".
std::string_view instruction_name(std::string_view bytes, uint32_t offset);

}  // namespace porphyry::wasm
