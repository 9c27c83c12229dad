#include "porphyry/host/wasi.h"

#include <fcntl.h>
#include <time.h>
#include <unistd.h>

#include <cerrno>
#include <cstring>
#include <thread>

#include "wasi_state.h"

namespace porphyry::wasm {
namespace {

uint64_t now(const WasiState& s, uint32_t clock) {
  if (s.options.fixed_clock) return *s.options.fixed_clock;
  static constexpr clockid_t clocks[] = {CLOCK_REALTIME, CLOCK_MONOTONIC, CLOCK_PROCESS_CPUTIME_ID,
                                         CLOCK_THREAD_CPUTIME_ID};
  timespec t{};
  clock_gettime(clocks[clock], &t);
  return static_cast<uint64_t>(t.tv_sec) * 1'000'000'000 + static_cast<uint64_t>(t.tv_nsec);
}

// Texts one behind the other, each ended by a zero, and where each begins.
int32_t put_texts(Instance& in, const std::vector<std::string>& texts, uint32_t places, uint32_t bytes) {
  Guest g(in);
  for (size_t k = 0; k < texts.size(); ++k) {
    g.put(places + static_cast<uint32_t>(4 * k), bytes);
    auto to = g.range(bytes, texts[k].size() + 1);
    if (!g.good()) return fault;
    std::memcpy(to.data(), texts[k].c_str(), texts[k].size() + 1);
    bytes += static_cast<uint32_t>(texts[k].size() + 1);
  }
  return success;
}
int32_t put_sizes(Instance& in, const std::vector<std::string>& texts, uint32_t count, uint32_t size) {
  Guest g(in);
  size_t all = 0;
  for (const std::string& t : texts) all += t.size() + 1;
  g.put(count, static_cast<uint32_t>(texts.size()));
  g.put(size, static_cast<uint32_t>(all));
  return g.good() ? success : fault;
}
std::vector<std::string> environment(const WasiState& s) {
  std::vector<std::string> out;
  for (const auto& [name, value] : s.options.environment) out.push_back(name + "=" + value);
  return out;
}

void add_texts(Imports& imports, const State& s) {
  using I = Instance;
  wasi_function(imports, "args_get", [s](I& in, uint32_t places, uint32_t bytes) -> int32_t {
    return put_texts(in, s->options.arguments, places, bytes);
  });
  wasi_function(imports, "args_sizes_get", [s](I& in, uint32_t count, uint32_t size) -> int32_t {
    return put_sizes(in, s->options.arguments, count, size);
  });
  wasi_function(imports, "environ_get", [s](I& in, uint32_t places, uint32_t bytes) -> int32_t {
    return put_texts(in, environment(*s), places, bytes);
  });
  wasi_function(imports, "environ_sizes_get", [s](I& in, uint32_t count, uint32_t size) -> int32_t {
    return put_sizes(in, environment(*s), count, size);
  });
}

// Waits for the earliest clock, unless a stream is asked about: those are always ready.
int32_t wait_for(Instance& in, WasiState& s, uint32_t from, uint32_t to, uint32_t count, uint32_t events) {
  constexpr uint32_t subscription_bytes = 48, event_bytes = 32;
  Guest g(in);
  if (count == 0) return inval;
  bool ready = false;
  uint64_t least = ~uint64_t(0);
  auto wait_of = [&](uint32_t at) {
    uint64_t time = g.get<uint64_t>(at + 24);
    if (!(g.get<uint16_t>(at + 40) & 1)) return time;
    uint64_t is = now(s, std::min<uint32_t>(g.get<uint32_t>(at + 16), 3));
    return time > is ? time - is : 0;
  };
  for (uint32_t k = 0; k < count && g.good(); ++k) {
    uint32_t at = from + subscription_bytes * k;
    if (g.get<uint8_t>(at + 8) != 0)
      ready = true;
    else
      least = std::min(least, wait_of(at));
  }
  if (!g.good()) return fault;
  if (!ready && !s.options.fixed_clock)
    std::this_thread::sleep_for(std::chrono::nanoseconds(std::min<uint64_t>(least, 1'000'000'000'000)));
  uint32_t happened = 0;
  for (uint32_t k = 0; k < count && g.good(); ++k) {
    uint32_t at = from + subscription_bytes * k;
    uint8_t what = g.get<uint8_t>(at + 8);
    if (what == 0 && (ready || wait_of(at) > least)) continue;
    auto event = g.range(to + event_bytes * happened++, event_bytes);
    if (!g.good()) break;
    std::memset(event.data(), 0, event.size());
    uint64_t mark = g.get<uint64_t>(at);
    std::memcpy(event.data(), &mark, 8);
    event[10] = what;
  }
  g.put(events, happened);
  return g.good() ? success : fault;
}

void add_time_and_end(Imports& imports, const State& s) {
  using I = Instance;
  wasi_function(imports, "clock_time_get", [s](I& in, uint32_t clock, uint64_t, uint32_t to) -> int32_t {
    if (clock > 3) return inval;
    Guest g(in);
    g.put(to, now(*s, clock));
    return g.good() ? success : fault;
  });
  wasi_function(imports, "clock_res_get", [](I& in, uint32_t clock, uint32_t to) -> int32_t {
    if (clock > 3) return inval;
    Guest g(in);
    g.put(to, uint64_t(1));
    return g.good() ? success : fault;
  });
  wasi_function(imports, "random_get", [s](I& in, uint32_t to, uint32_t count) -> int32_t {
    Guest g(in);
    for (uint8_t& b : g.range(to, count)) b = static_cast<uint8_t>(s->random());
    return g.good() ? success : fault;
  });
  wasi_function(imports, "sched_yield", [](I&) -> int32_t { return success; });
  wasi_function(imports, "poll_oneoff",
                [s](I& in, uint32_t from, uint32_t to, uint32_t count, uint32_t events) -> int32_t {
                  return wait_for(in, *s, from, to, count, events);
                });
  imports.add(wasi_module, "proc_exit", {{ValueType::I32}, {}}, [](HostFunctionCall& call) {
    call.exit_code = static_cast<uint32_t>(call.arguments[0].bits);
    return false;
  });
  imports.add(wasi_module, "proc_raise", {{ValueType::I32}, {ValueType::I32}}, [](HostFunctionCall& call) {
    call.trap = "the program raised a signal";
    return false;
  });
  for (auto [name, parameters] :
       {std::pair("sock_accept", 3), {"sock_recv", 6}, {"sock_send", 5}, {"sock_shutdown", 2}})
    imports.add(wasi_module, name,
                {std::vector(static_cast<size_t>(parameters), ValueType::I32), {ValueType::I32}},
                [](HostFunctionCall& call) { return call.results[0] = {notsup}, true; });
}

}  // namespace

int32_t errno_of(int system) {
  switch (system) {
    case EACCES: return acces;
    case EBADF: return badf;
    case EBUSY: return busy;
    case EEXIST: return exist;
    case EINVAL: return inval;
    case EISDIR: return isdir;
    case ELOOP: return loop;
    case EMFILE: return mfile;
    case ENAMETOOLONG: return nametoolong;
    case ENOENT: return noent;
    case ENOSPC: return nospc;
    case ENOTDIR: return notdir;
    case ENOTEMPTY: return notempty;
    case EPERM: return perm;
    case ESPIPE: return spipe;
    default: return io;
  }
}

OpenFile::OpenFile(OpenFile&& other) noexcept
    : kind(other.kind),
      system(std::exchange(other.system, -1)),
      preopened(other.preopened),
      flags(other.flags),
      parts(std::move(other.parts)) {}
OpenFile::~OpenFile() {
  if (system >= 0) close(system);
}

WasiState::WasiState(WasiOptions o) : options(std::move(o)), random(options.seed) {
  add(OpenFile::Kind::Input);
  add(OpenFile::Kind::Output);
  add(OpenFile::Kind::Errors);
  if (options.folder.empty()) return;
  OpenFile folder(OpenFile::Kind::Folder, open(options.folder.c_str(), O_RDONLY | O_DIRECTORY | O_CLOEXEC));
  folder.preopened = true;
  if (folder.system >= 0) add(std::move(folder));
}

uint32_t WasiState::add(OpenFile f) {
  uint32_t number = 0;
  while (files.contains(number)) ++number;
  files.emplace(number, std::move(f));
  return number;
}

void add_wasi(Imports& imports, WasiOptions options) {
  auto state = std::make_shared<WasiState>(std::move(options));
  add_texts(imports, state);
  add_time_and_end(imports, state);
  add_streams(imports, state);
  add_paths(imports, state);
}

}  // namespace porphyry::wasm
