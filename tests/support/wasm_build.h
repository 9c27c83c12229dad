// Writes WebAssembly modules for tests, byte by byte: an independent writer of what the reader takes.
//
//   WasmModule m;
//   uint32_t t = m.type("ii", "i");
//   m.exported("add", m.function(t, "", get(0) + get(1) + op(0x6a)));
//   m.bytes()
#pragma once

#include <cstring>
#include <string>
#include <string_view>
#include <vector>

#include "porphyry/base/leb128.h"

namespace porphyry::testing::wasm_text {

inline std::string uleb(uint64_t n) {
  std::string out;
  put_uleb(n, [&](uint8_t b) { out += static_cast<char>(b); });
  return out;
}
inline std::string sleb(int64_t n) {
  std::string out;
  put_sleb(n, [&](uint8_t b) { out += static_cast<char>(b); });
  return out;
}
inline std::string name(std::string_view s) { return uleb(s.size()) + std::string(s); }
template <class T>
std::string raw(T v) {
  std::string out(sizeof v, '\0');
  std::memcpy(out.data(), &v, sizeof v);
  return out;
}

// ---- instructions ---------------------------------------------------------------------------------------
inline std::string op(unsigned code) { return std::string(1, static_cast<char>(code)); }
inline const std::string add = op(0x6a), sub = op(0x6b), mul = op(0x6c), drop = op(0x1a), unreachable = op(0);
inline std::string prefixed(unsigned code) { return op(0xfc) + uleb(code); }
inline std::string get(uint32_t local) { return op(0x20) + uleb(local); }
inline std::string set(uint32_t local) { return op(0x21) + uleb(local); }
inline std::string tee(uint32_t local) { return op(0x22) + uleb(local); }
inline std::string i32(int32_t n) { return op(0x41) + sleb(n); }
inline std::string i64(int64_t n) { return op(0x42) + sleb(n); }
inline std::string f32(float x) { return op(0x43) + raw(x); }
inline std::string f64(double x) { return op(0x44) + raw(x); }
inline std::string call(uint32_t f) { return op(0x10) + uleb(f); }
inline std::string branch(uint32_t depth) { return op(0x0c) + uleb(depth); }
inline std::string branch_if(uint32_t depth) { return op(0x0d) + uleb(depth); }
inline std::string access(unsigned code, uint32_t offset = 0) { return op(code) + uleb(0) + uleb(offset); }
inline char type_code(char letter) {
  switch (letter) {
    case 'i': return 0x7f;
    case 'l': return 0x7e;
    case 'f': return 0x7d;
    case 'd': return 0x7c;
    case 'v': return 0x7b;
    case 'r': return 0x70;
    default: return 0x6f;
  }
}
// `result`: nothing, a letter, or the number of a type.
inline std::string block_of(unsigned code, std::string_view result, const std::string& body) {
  std::string type = result.empty()                          ? op(0x40)
                     : result.size() == 1 && result[0] > '9' ? std::string(1, type_code(result[0]))
                                                             : sleb(std::stoi(std::string(result)));
  return op(code) + type + body + op(0x0b);
}
inline std::string block(std::string_view result, const std::string& body) {
  return block_of(2, result, body);
}
inline std::string loop(std::string_view result, const std::string& body) {
  return block_of(3, result, body);
}
inline std::string if_(std::string_view result, const std::string& yes, const std::string& no = "") {
  return block_of(4, result, no.empty() ? yes : yes + op(5) + no);
}

// ---- modules --------------------------------------------------------------------------------------------
class WasmModule {
 public:
  // Letters: i32 i, i64 l, f32 f, f64 d, v128 v, funcref r, externref e.
  uint32_t type(std::string_view parameters, std::string_view results) {
    return add(types_, op(0x60) + types(parameters) + types(results));
  }
  uint32_t import_function(std::string_view module, std::string_view field, uint32_t type) {
    import_one(module, field, op(0) + uleb(type));
    return functions_++;
  }
  void import_memory(std::string_view module, std::string_view field, uint32_t least, int64_t most = -1) {
    import_one(module, field, op(2) + limits(least, most));
  }
  void import_table(std::string_view module, std::string_view field, char element, uint32_t least) {
    import_one(module, field, op(1) + std::string(1, type_code(element)) + limits(least, -1));
    ++tables_;
  }
  uint32_t import_global(std::string_view module, std::string_view field, char type, bool changes) {
    import_one(module, field, op(3) + std::string(1, type_code(type)) + op(changes));
    return globals_++;
  }
  // Locals behind the parameters, as letters; the code without its `end`.
  uint32_t function(uint32_t type, std::string_view locals, const std::string& code) {
    std::string body = uleb(locals.size());
    for (char l : locals) body += uleb(1) + std::string(1, type_code(l));
    return whole_function(type, body + code + op(0x0b));
  }
  uint32_t whole_function(uint32_t type, const std::string& body) {
    add(declared_, uleb(type));
    add(codes_, uleb(body.size()) + body);
    return functions_++;
  }
  void memory(uint32_t least, int64_t most = -1) { add(memories_, limits(least, most)); }
  uint32_t table(char element, uint32_t least, int64_t most = -1) {
    add(table_rows_, std::string(1, type_code(element)) + limits(least, most));
    return tables_++;
  }
  uint32_t global(char type, bool changes, const std::string& value) {
    add(global_rows_, std::string(1, type_code(type)) + op(changes) + value + op(0x0b));
    return globals_++;
  }
  void exported(std::string_view as, uint32_t index, unsigned kind = 0) {
    add(exports_, name(as) + op(kind) + uleb(index));
  }
  uint32_t data(int32_t at, std::string_view bytes) {
    return add(data_, uleb(0) + i32(at) + op(0x0b) + name(bytes));
  }
  uint32_t passive_data(std::string_view bytes) { return add(data_, uleb(1) + name(bytes)); }
  uint32_t elements(int32_t at, const std::vector<uint32_t>& functions) {
    return add(elements_, uleb(0) + i32(at) + op(0x0b) + list(functions));
  }
  uint32_t passive_elements(const std::vector<uint32_t>& functions) {
    return add(elements_, uleb(1) + op(0) + list(functions));
  }
  void start(uint32_t function) { start_ = uleb(function); }
  void section(unsigned id, const std::string& content) { extra_ += op(id) + uleb(content.size()) + content; }

  std::string bytes() const {
    std::string out("\0asm\1\0\0\0", 8);
    auto rows = [&](unsigned id, const Rows& r) {
      if (r.count) whole(out, id, uleb(r.count) + r.bytes);
    };
    rows(1, types_), rows(2, imports_), rows(3, declared_), rows(4, table_rows_), rows(5, memories_),
        rows(6, global_rows_);
    rows(7, exports_);
    if (!start_.empty()) whole(out, 8, start_);
    rows(9, elements_);
    if (data_.count) whole(out, 12, uleb(data_.count));
    rows(10, codes_), rows(11, data_);
    return out + extra_;
  }

 private:
  struct Rows {
    uint32_t count = 0;
    std::string bytes;
  };
  static uint32_t add(Rows& rows, const std::string& bytes) {
    rows.bytes += bytes;
    return rows.count++;
  }
  static void whole(std::string& out, unsigned id, const std::string& content) {
    out += op(id) + uleb(content.size()) + content;
  }
  static std::string types(std::string_view letters) {
    std::string out = uleb(letters.size());
    for (char l : letters) out += type_code(l);
    return out;
  }
  static std::string limits(uint32_t least, int64_t most) {
    return most < 0 ? op(0) + uleb(least) : op(1) + uleb(least) + uleb(static_cast<uint64_t>(most));
  }
  static std::string list(const std::vector<uint32_t>& numbers) {
    std::string out = uleb(numbers.size());
    for (uint32_t n : numbers) out += uleb(n);
    return out;
  }
  void import_one(std::string_view module, std::string_view field, const std::string& what) {
    add(imports_, name(module) + name(field) + what);
  }

  Rows types_, imports_, declared_, table_rows_, memories_, global_rows_, exports_, elements_, codes_, data_;
  uint32_t functions_ = 0, tables_ = 0, globals_ = 0;
  std::string start_, extra_;
};

}  // namespace porphyry::testing::wasm_text
