// Just-in-time execution: a lowered module placed in memory and called.
//
// Code lies in pages that are never writable and executable at once; constants in pages that are read only;
// data in pages of their own, shared with child processes (see apart.h). Calls to externals go through stubs,
// so the host's functions may be at any distance. Memory is freed with the Jit.
//
// Everything is compiled at once, or, lazily, each function when it is first called: calls then go through a
// stub that jumps through a word, which leads to the compiler first and to the function's code afterwards.
// The word is swapped atomically and published code never changes, so several threads may call at once;
// whoever calls a function that another thread is compiling waits.
#pragma once

#include <functional>
#include <memory>
#include <optional>
#include <string>
#include <type_traits>

#include "porphyry/machine/lower.h"

namespace porphyry {

namespace jit {
struct Placing;
}

// The address of an external, or null when there is none.
using Resolver = std::function<void*(std::string_view name)>;

// The C library's mathematical functions that legalization may call.
void* usual_externals(std::string_view name);

struct JitOptions {
  // For simulation only: of any target, in memory that its pointers reach; nothing is made executable.
  bool simulated = false;
  bool lazy = false;          // functions are compiled when they are first called
  bool for_debugger = false;  // code, frames and lines are made known to a debugger of this process
  bool for_profiler = false;  // names and places go to /tmp/perf-PID.map, where the system's profiler looks
};

// A place in compiled code and what it came from.
struct CodePlace {
  std::string function, position, operation;  // position and operation are empty where none is known
  Position row = {};                          // of the legalized module; the same place as `position`
  uint64_t offset = 0;                        // in the function
};

// A run of memory and what may be done with it besides reading.
struct MemoryRegion {
  uint8_t* memory;
  size_t bytes;
  bool writable, executable;
};

class Jit {
 public:
  // The module must be verified. Fails when a function cannot be lowered, an external is not found, the
  // target or a feature is not this processor's, or memory is refused.
  static Result<std::unique_ptr<Jit>> compile(const Module& module, const machine::Target& target,
                                              const machine::LowerOptions& options = {},
                                              const Resolver& externals = usual_externals,
                                              const JitOptions& how = {});
  ~Jit();
  Jit(const Jit&) = delete;
  Jit& operator=(const Jit&) = delete;

  // Where a function or data item lies; null when the module has none of that name.
  void* address(std::string_view name) const;
  // The bytes of a data item as they are now; valid while the Jit lives.
  std::span<uint8_t> data(Symbol item) const;

  // A function as a C++ function pointer; the C++ type must be the function's:
  //   auto add = jit->function<int32_t(int32_t, int32_t)>("add");
  //   if (add) (*add)(2, 3);
  // Valid while the Jit lives. Another type is a diagnostic that says both.
  template <class F>
  Result<F*> function(std::string_view name) const;

  // The module as it was compiled. Lazily, only what has been called has code; not to be read while other
  // threads call.
  const machine::LoweredModule& lowered() const;
  const JitOptions& options() const { return how_; }
  // Its code, its constants, its data.
  std::vector<MemoryRegion> regions() const;
  // What an address in the code belongs to, compiled lazily or not; nothing outside of the functions.
  // O(functions).
  std::optional<CodePlace> locate(uint64_t address) const;

 private:
  Jit(const machine::Target& target, const JitOptions& how);
  Diagnostics place(const Resolver& externals);
  Diagnostics get_memory(const jit::Placing& p);
  size_t lazy_word_bytes() const;
  Diagnostics find_addresses(const jit::Placing& p, const Resolver& externals,
                             std::vector<uint8_t*>& reached);
  void put_data();
  void put_code(const jit::Placing& p, const std::vector<uint8_t*>& reached);
  void announce();
  Diagnostics check_type(std::string_view name, const Signature& wanted) const;

  const machine::Target& target_;
  JitOptions how_;
  machine::LoweredModule lowered_;
  std::unique_ptr<class LazyCode> lazy_;
  std::unique_ptr<class DebuggerEntry> debugger_;
  std::vector<uint8_t*> addresses_;  // by symbol
  uint8_t* memory_ = nullptr;
  size_t memory_bytes_ = 0;
  size_t constants_start_ = 0, data_start_ = 0, data_end_ = 0;  // in memory_; code stands first
};

// ---- C++ function types as signatures ---------------------------------------------------------------------

template <class T>
constexpr Type type_of() {
  if constexpr (std::is_same_v<T, bool>)
    return Type::boolean();
  else if constexpr (std::is_pointer_v<T>)
    return Type::pointer();
  else if constexpr (std::is_same_v<T, float>)
    return Type::f32();
  else if constexpr (std::is_same_v<T, double>)
    return Type::f64();
  else {
    static_assert(std::is_integral_v<T>, "this C++ type has no counterpart in the IR");
    return Type::integer(8 * sizeof(T));
  }
}

template <class F>
struct SignatureOf;
template <class R, class... A>
struct SignatureOf<R(A...)> {
  static Signature get() {
    Signature s{{type_of<A>()...}, {}};
    if constexpr (!std::is_void_v<R>) s.results.push_back(type_of<R>());
    return s;
  }
};

template <class F>
Result<F*> Jit::function(std::string_view name) const {
  Diagnostics wrong = check_type(name, SignatureOf<F>::get());
  if (!wrong.empty()) return wrong;
  return reinterpret_cast<F*>(address(name));
}

}  // namespace porphyry
