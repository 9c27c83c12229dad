// The standard's types, and what they are in the IR.
#include "porphyry/base/hash.h"
#include "porphyry/formats/wasm.h"

namespace porphyry::wasm {

std::string_view type_name(ValueType t) {
  switch (t) {
    case ValueType::I32: return "i32";
    case ValueType::I64: return "i64";
    case ValueType::F32: return "f32";
    case ValueType::F64: return "f64";
    case ValueType::V128: return "v128";
    case ValueType::FuncRef: return "funcref";
    case ValueType::ExternRef: return "externref";
    case ValueType::Unknown: break;
  }
  return "anything";
}

std::string_view kind_name(Kind k) {
  static constexpr std::string_view names[] = {"function", "table", "memory", "global"};
  return names[static_cast<size_t>(k)];
}

Type ir_type(ValueType t) {
  switch (t) {
    case ValueType::I32: return Type::integer(32);
    case ValueType::I64: return Type::integer(64);
    case ValueType::F32: return Type::f32();
    case ValueType::F64: return Type::f64();
    case ValueType::V128: return Type::integer(32).with_lanes(4);
    default: return Type::pointer();
  }
}

std::string FunctionType::text() const {
  std::string out = "(";
  for (size_t k = 0; k < parameters.size(); ++k)
    out += (k ? ", " : "") + std::string(type_name(parameters[k]));
  out += ")";
  for (size_t k = 0; k < results.size(); ++k) out += (k ? ", " : " -> ") + std::string(type_name(results[k]));
  return out;
}

// Three bits a value: a type, or 7 between parameters and results.
uint64_t type_number(const FunctionType& type) {
  auto code = [](ValueType t) -> uint64_t {
    switch (t) {
      case ValueType::I32: return 0;
      case ValueType::I64: return 1;
      case ValueType::F32: return 2;
      case ValueType::F64: return 3;
      case ValueType::V128: return 4;
      case ValueType::FuncRef: return 5;
      default: return 6;
    }
  };
  std::string digits;
  for (ValueType t : type.parameters) digits += static_cast<char>(code(t));
  digits += 7;
  for (ValueType t : type.results) digits += static_cast<char>(code(t));
  if (digits.size() > 20) return hash_of(digits) | uint64_t(1) << 63;
  uint64_t out = 1;  // so that zeros in front count
  for (char d : digits) out = out << 3 | static_cast<uint64_t>(d);
  return out;
}

const Export* Program::find_export(std::string_view name) const {
  for (const Export& e : exports)
    if (e.name == name) return &e;
  return nullptr;
}

}  // namespace porphyry::wasm
