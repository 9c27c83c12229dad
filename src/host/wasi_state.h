// What the functions of the system interface share.
#pragma once

#include <map>
#include <random>

#include "porphyry/host/wasi.h"

namespace porphyry::wasm {

// Errors, by their numbers in the interface.
enum Errno : int32_t {
  success = 0,
  acces = 2,
  badf = 8,
  busy = 10,
  exist = 20,
  fault = 21,
  inval = 28,
  io = 29,
  isdir = 31,
  loop = 32,
  mfile = 33,
  nametoolong = 37,
  noent = 44,
  nospc = 51,
  notdir = 54,
  notempty = 55,
  notsup = 58,
  perm = 63,
  spipe = 70,
  notcapable = 76
};
int32_t errno_of(int system);

// The memory of the instance that calls. What lies outside of it is not touched, and remembered.
class Guest {
 public:
  explicit Guest(Instance& of) : bytes_(of.memory()) {}
  bool good() const { return good_; }
  std::span<uint8_t> range(uint32_t at, uint64_t size) {
    if (size <= bytes_.size() && at <= bytes_.size() - size) return bytes_.subspan(at, size);
    good_ = false;
    return {};
  }
  template <class T>
  T get(uint32_t at) {
    T out{};
    if (auto from = range(at, sizeof(T)); !from.empty()) std::memcpy(&out, from.data(), sizeof(T));
    return out;
  }
  template <class T>
  void put(uint32_t at, T v) {
    if (auto to = range(at, sizeof(T)); !to.empty()) std::memcpy(to.data(), &v, sizeof(T));
  }
  std::string text(uint32_t at, uint32_t size) {
    auto from = range(at, size);
    return {reinterpret_cast<const char*>(from.data()), from.size()};
  }
  // A list of buffers: address and size of each.
  std::vector<std::span<uint8_t>> buffers(uint32_t at, uint32_t count) {
    std::vector<std::span<uint8_t>> out;
    for (uint32_t k = 0; k < count && good_; ++k)
      out.push_back(range(get<uint32_t>(at + 8 * k), get<uint32_t>(at + 8 * k + 4)));
    return out;
  }

 private:
  std::span<uint8_t> bytes_;
  bool good_ = true;
};

// An open file of the program.
struct OpenFile {
  enum class Kind : uint8_t { Input, Output, Errors, File, Folder } kind;
  int system = -1;         // of the host; File, Folder
  bool preopened = false;  // the folder itself
  uint16_t flags = 0;
  std::vector<std::string> parts;  // Folder: its path under the folder

  OpenFile(Kind kind, int system = -1) : kind(kind), system(system) {}
  OpenFile(OpenFile&& other) noexcept;
  OpenFile& operator=(OpenFile&&) = delete;
  ~OpenFile();
};

struct WasiState {
  explicit WasiState(WasiOptions o);
  OpenFile* file(uint32_t number) {
    auto at = files.find(number);
    return at == files.end() ? nullptr : &at->second;
  }
  uint32_t add(OpenFile f);  // the least free number

  WasiOptions options;
  std::mt19937_64 random;
  std::map<uint32_t, OpenFile> files;
};
using State = std::shared_ptr<WasiState>;

void add_streams(Imports& imports, const State& state);  // wasi_streams.cpp: what takes an open file
void add_paths(Imports& imports, const State& state);    // wasi_paths.cpp: what takes a path

// For those that take an Instance and numbers and give an error.
template <class F>
void wasi_function(Imports& imports, std::string_view name, F f) {
  imports.function(wasi_module, name, std::move(f));
}

}  // namespace porphyry::wasm
