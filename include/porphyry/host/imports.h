// What a host gives to programs from WebAssembly: functions, memories, tables and globals by their names.
//
//   wasm::Imports imports;
//   imports.function("orchard", "warn", [](int32_t post, float degrees) { … });
//   imports.function("orchard", "read", [](wasm::Instance& of, uint32_t at) -> int32_t { … });
//   imports.add_memory("env", "memory", std::make_shared<wasm::HostMemory>(wasm::Limits{16, 256}));
//
// A host's function may call instances, and must not throw: what calls it is no code of C++.
// Values are Datum: the bits of numbers, the low and the high half of v128, addresses of references.
#pragma once

#include <array>
#include <bit>
#include <functional>
#include <map>
#include <memory>
#include <type_traits>
#include <variant>

#include "porphyry/eval/evaluator.h"
#include "porphyry/formats/wasm.h"

namespace porphyry::wasm {

class Instance;

// A call of a host's function. Valid while it lasts.
struct HostFunctionCall {
  Instance& instance;  // the one that imports the function
  std::span<const Datum> arguments;
  std::span<Datum> results;                // zeros at first
  std::string trap = {};                   // why, when the function gives false
  std::optional<uint32_t> exit_code = {};  // given with false: the program is over
};
// False: a trap, or the program's end.
using HostFunction = std::function<bool(HostFunctionCall&)>;

// Words as a program sees them: see formats/wasm.h.
struct Record {
  uint64_t words[3] = {};
};

// A memory that the host makes and several instances may share. Its addresses are reserved as far as it may
// grow, so that it never moves. Throws std::bad_alloc when the system has none.
class HostMemory {
 public:
  explicit HostMemory(Limits pages);
  ~HostMemory();
  HostMemory(const HostMemory&) = delete;
  HostMemory& operator=(const HostMemory&) = delete;
  const Limits& limits() const { return limits_; }
  std::span<uint8_t> bytes() { return {reinterpret_cast<uint8_t*>(record_.words[0]), record_.words[1]}; }
  // By so many pages; false when it may not be, or cannot.
  bool grow(uint32_t pages);
  Record* record() { return &record_; }

 private:
  Limits limits_;
  Record record_;
};

// Elements are null at first; instances fill them.
class HostTable {
 public:
  HostTable(ValueType element, Limits limits);
  ~HostTable();
  HostTable(const HostTable&) = delete;
  HostTable& operator=(const HostTable&) = delete;
  ValueType element() const { return element_; }
  const Limits& limits() const { return limits_; }
  Record* record() { return &record_; }

 private:
  ValueType element_;
  Limits limits_;
  Record record_;
};

struct HostGlobal {
  ValueType type;
  bool is_mutable = false;
  alignas(16) uint64_t words[2] = {};
};

class Imports {
 public:
  struct Function {
    FunctionType type;
    HostFunction run;
  };
  struct OfInstance {  // what another instance exports; it must outlive those that import it
    Instance* instance;
    Export what;
  };
  using Item = std::variant<Function, std::shared_ptr<HostMemory>, std::shared_ptr<HostTable>,
                            std::shared_ptr<HostGlobal>, OfInstance>;

  // What is added later under the same names takes the place of what was there.
  void add(std::string_view module, std::string_view name, FunctionType type, HostFunction run) {
    put(module, name, Function{std::move(type), std::move(run)});
  }
  void add_memory(std::string_view module, std::string_view name, std::shared_ptr<HostMemory> memory) {
    put(module, name, std::move(memory));
  }
  void add_table(std::string_view module, std::string_view name, std::shared_ptr<HostTable> table) {
    put(module, name, std::move(table));
  }
  void add_global(std::string_view module, std::string_view name, std::shared_ptr<HostGlobal> global) {
    put(module, name, std::move(global));
  }
  // Everything that an instance exports, under the name of a module.
  void add_exports(std::string_view module, Instance& instance);
  // A callable of int32_t, uint32_t, int64_t, uint64_t, float and double, and perhaps Instance& in front.
  template <class F>
  void function(std::string_view module, std::string_view name, F callable);

  // Functions that are not given trap when they are called, instead of being missed.
  bool missing_functions_trap = false;

  // Null when nothing has these names.
  const Item* find(std::string_view module, std::string_view name) const;

 private:
  void put(std::string_view module, std::string_view name, Item item) {
    items_.insert_or_assign({std::string(module), std::string(name)}, std::move(item));
  }
  std::map<std::pair<std::string, std::string>, Item> items_;
};

// ---- C++ types ------------------------------------------------------------------------------------------

template <class T>
constexpr ValueType value_type_of() {
  if constexpr (std::is_same_v<T, float>)
    return ValueType::F32;
  else if constexpr (std::is_same_v<T, double>)
    return ValueType::F64;
  else {
    static_assert(std::is_integral_v<T> && (sizeof(T) == 4 || sizeof(T) == 8),
                  "a type of WebAssembly's numbers");
    return sizeof(T) == 4 ? ValueType::I32 : ValueType::I64;
  }
}
template <class T>
T from_datum(const Datum& d) {
  if constexpr (std::is_same_v<T, float>)
    return std::bit_cast<float>(static_cast<uint32_t>(d.bits));
  else if constexpr (std::is_same_v<T, double>)
    return std::bit_cast<double>(d.bits);
  else
    return static_cast<T>(d.bits);
}
template <class T>
Datum to_datum(T v) {
  if constexpr (std::is_same_v<T, float>)
    return {std::bit_cast<uint32_t>(v)};
  else if constexpr (std::is_same_v<T, double>)
    return {std::bit_cast<uint64_t>(v)};
  else
    return {static_cast<uint64_t>(static_cast<std::make_unsigned_t<T>>(v))};
}

// The four lanes of 32 bits that a v128 is in the IR, and back.
inline std::array<uint64_t, 4> lane_words(const Datum& d) {
  return {d.bits & 0xffffffff, d.bits >> 32, d.high & 0xffffffff, d.high >> 32};
}
inline Datum datum_of_lanes(std::span<const uint64_t, 4> w) { return {w[0] | w[1] << 32, w[2] | w[3] << 32}; }
// The words of values one behind the other, as constants have them (Type::words), and back.
std::vector<uint64_t> words_of(std::span<const Datum> values, const std::vector<ValueType>& types);
std::vector<Datum> values_of(std::span<const uint64_t> words, const std::vector<ValueType>& types);

namespace detail {
template <class F>
struct Callable : Callable<decltype(&F::operator())> {};
template <class R, class C, class... A>
struct Callable<R (C::*)(A...) const> : Callable<R(A...)> {};
template <class R, class C, class... A>
struct Callable<R (C::*)(A...)> : Callable<R(A...)> {};
template <class R, class... A>
struct Callable<R (*)(A...)> : Callable<R(A...)> {};
template <class R, class... A>
struct Callable<R(Instance&, A...)> : Callable<R(A...)> {
  static constexpr bool takes_instance = true;
};
template <class R, class... A>
struct Callable<R(A...)> {
  static constexpr bool takes_instance = false;
  static FunctionType type() {
    FunctionType out{{value_type_of<A>()...}, {}};
    if constexpr (!std::is_void_v<R>) out.results.push_back(value_type_of<R>());
    return out;
  }
  template <bool with_instance, class F>
  static void run(F& f, HostFunctionCall& call) {
    run_with<with_instance>(f, call, std::index_sequence_for<A...>());
  }
  template <bool with_instance, class F, size_t... k>
  static void run_with(F& f, HostFunctionCall& call, std::index_sequence<k...>) {
    auto apply = [&](auto&&... arguments) -> R {
      if constexpr (with_instance)
        return f(call.instance, arguments...);
      else
        return f(arguments...);
    };
    if constexpr (std::is_void_v<R>)
      apply(from_datum<A>(call.arguments[k])...);
    else
      call.results[0] = to_datum<R>(apply(from_datum<A>(call.arguments[k])...));
  }
};
}  // namespace detail

template <class F>
void Imports::function(std::string_view module, std::string_view name, F callable) {
  using Is = detail::Callable<F>;
  add(module, name, Is::type(), [callable](HostFunctionCall& call) mutable {
    Is::template run<Is::takes_instance>(callable, call);
    return true;
  });
}

}  // namespace porphyry::wasm
