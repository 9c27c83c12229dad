// What takes an open file: the standard streams, files, folders.
#include <dirent.h>
#include <fcntl.h>
#include <sys/stat.h>
#include <unistd.h>

#include <cerrno>
#include <cstring>

#include "wasi_files.h"

namespace porphyry::wasm {
namespace {

using Kind = OpenFile::Kind;

uint8_t type_of(mode_t mode) {
  return S_ISDIR(mode)   ? 3
         : S_ISREG(mode) ? 4
         : S_ISCHR(mode) ? 2
         : S_ISBLK(mode) ? 1
         : S_ISLNK(mode) ? 7
                         : 0;
}

int32_t write_to(WasiState& s, Instance& in, uint32_t number, uint32_t list, uint32_t count, uint32_t written,
                 std::optional<uint64_t> at) {
  OpenFile* f = s.file(number);
  if (!f || f->kind == Kind::Input || f->kind == Kind::Folder) return badf;
  Guest g(in);
  uint64_t done = 0;
  for (std::span<uint8_t> from : g.buffers(list, count)) {
    if (!g.good()) return fault;
    std::string_view text(reinterpret_cast<const char*>(from.data()), from.size());
    if (f->kind == Kind::File) {
      ssize_t n = at ? pwrite(f->system, from.data(), from.size(), static_cast<off_t>(*at + done))
                     : write(f->system, from.data(), from.size());
      if (n < 0) return errno_of(errno);
      done += static_cast<uint64_t>(n);
      if (static_cast<size_t>(n) < from.size()) break;
    } else {
      const auto& sink = f->kind == Kind::Output ? s.options.output : s.options.errors;
      if (sink) sink(text);
      done += from.size();
    }
  }
  g.put(written, static_cast<uint32_t>(done));
  return g.good() ? success : fault;
}

int32_t read_from(WasiState& s, Instance& in, uint32_t number, uint32_t list, uint32_t count, uint32_t got,
                  std::optional<uint64_t> at) {
  OpenFile* f = s.file(number);
  if (!f || f->kind == Kind::Output || f->kind == Kind::Errors) return badf;
  if (f->kind == Kind::Folder) return isdir;
  Guest g(in);
  uint64_t done = 0;
  for (std::span<uint8_t> to : g.buffers(list, count)) {
    if (!g.good()) return fault;
    if (to.empty()) continue;
    ssize_t n = 0;
    if (f->kind == Kind::Input)
      n = s.options.input ? static_cast<ssize_t>(s.options.input(to)) : 0;
    else
      n = at ? pread(f->system, to.data(), to.size(), static_cast<off_t>(*at + done))
             : read(f->system, to.data(), to.size());
    if (n < 0) return errno_of(errno);
    done += static_cast<uint64_t>(n);
    if (static_cast<size_t>(n) < to.size()) break;
  }
  g.put(got, static_cast<uint32_t>(done));
  return g.good() ? success : fault;
}

int32_t tell_state(WasiState& s, Instance& in, uint32_t number, uint32_t to) {
  OpenFile* f = s.file(number);
  if (!f) return badf;
  Guest g(in);
  auto all = g.range(to, 24);
  if (!g.good()) return fault;
  std::memset(all.data(), 0, all.size());
  struct stat is {};
  all[0] = f->kind == Kind::Folder      ? 3
           : f->kind != Kind::File      ? 2
           : fstat(f->system, &is) == 0 ? type_of(is.st_mode)
                                        : 0;
  g.put(to + 2, f->flags);
  g.put(to + 8, ~uint64_t(0) >> 34);
  g.put(to + 16, ~uint64_t(0) >> 34);
  return success;
}

int32_t seek_in(WasiState& s, Instance& in, uint32_t number, int64_t by, uint32_t from, uint32_t to) {
  OpenFile* f = s.file(number);
  if (!f) return badf;
  if (f->kind != Kind::File) return f->kind == Kind::Folder ? badf : spipe;
  static constexpr int ways[] = {SEEK_SET, SEEK_CUR, SEEK_END};
  if (from > 2) return inval;
  off_t at = lseek(f->system, by, ways[from]);
  if (at < 0) return errno_of(errno);
  Guest g(in);
  g.put(to, static_cast<uint64_t>(at));
  return g.good() ? success : fault;
}

int32_t list_folder(WasiState& s, Instance& in, uint32_t number, uint32_t to, uint32_t size, uint64_t cookie,
                    uint32_t used) {
  OpenFile* f = s.file(number);
  if (!f) return badf;
  if (f->kind != Kind::Folder) return notdir;
  Guest g(in);
  auto all = g.range(to, size);
  if (!g.good()) return fault;
  int again = openat(f->system, ".", O_RDONLY | O_DIRECTORY | O_CLOEXEC);
  DIR* folder = again < 0 ? nullptr : fdopendir(again);
  if (!folder) return errno_of(errno);
  uint64_t place = 0;
  size_t at = 0;
  while (dirent* entry = at < all.size() ? readdir(folder) : nullptr) {
    if (place++ < cookie) continue;
    size_t length = std::strlen(entry->d_name);
    std::vector<uint8_t> row(24 + length);
    uint64_t node = entry->d_ino;
    auto name_length = static_cast<uint32_t>(length);
    std::memcpy(row.data(), &place, 8), std::memcpy(row.data() + 8, &node, 8),
        std::memcpy(row.data() + 16, &name_length, 4);
    row[20] = entry->d_type == DT_DIR ? 3 : entry->d_type == DT_REG ? 4 : entry->d_type == DT_LNK ? 7 : 0;
    std::memcpy(row.data() + 24, entry->d_name, length);
    size_t fits = std::min(row.size(), all.size() - at);  // a row that is cut tells that there are more
    std::memcpy(all.data() + at, row.data(), fits);
    at += fits;
  }
  closedir(folder);
  g.put(used, static_cast<uint32_t>(at));
  return g.good() ? success : fault;
}

void add_reading(Imports& imports, const State& s) {
  using I = Instance;
  using U = uint32_t;
  wasi_function(imports, "fd_write", [s](I& in, U f, U list, U n, U to) -> int32_t {
    return write_to(*s, in, f, list, n, to, {});
  });
  wasi_function(imports, "fd_pwrite", [s](I& in, U f, U list, U n, uint64_t at, U to) -> int32_t {
    return write_to(*s, in, f, list, n, to, at);
  });
  wasi_function(imports, "fd_read", [s](I& in, U f, U list, U n, U to) -> int32_t {
    return read_from(*s, in, f, list, n, to, {});
  });
  wasi_function(imports, "fd_pread", [s](I& in, U f, U list, U n, uint64_t at, U to) -> int32_t {
    return read_from(*s, in, f, list, n, to, at);
  });
  wasi_function(imports, "fd_seek", [s](I& in, U f, int64_t by, U from, U to) -> int32_t {
    return seek_in(*s, in, f, by, from, to);
  });
  wasi_function(imports, "fd_tell",
                [s](I& in, U f, U to) -> int32_t { return seek_in(*s, in, f, 0, 1, to); });
  wasi_function(imports, "fd_readdir", [s](I& in, U f, U to, U size, uint64_t cookie, U used) -> int32_t {
    return list_folder(*s, in, f, to, size, cookie, used);
  });
}

void add_state(Imports& imports, const State& s) {
  using I = Instance;
  using U = uint32_t;
  wasi_function(imports, "fd_close", [s](I&, U f) -> int32_t { return s->files.erase(f) ? success : badf; });
  wasi_function(imports, "fd_renumber", [s](I&, U from, U to) -> int32_t {
    if (!s->file(from) || !s->file(to)) return badf;
    if (from == to) return success;
    s->files.erase(to);
    s->files.emplace(to, std::move(*s->file(from)));
    s->files.erase(from);
    return success;
  });
  wasi_function(imports, "fd_fdstat_get",
                [s](I& in, U f, U to) -> int32_t { return tell_state(*s, in, f, to); });
  wasi_function(imports, "fd_fdstat_set_flags", [s](I&, U f, U flags) -> int32_t {
    OpenFile* is = s->file(f);
    if (!is) return badf;
    is->flags = static_cast<uint16_t>(flags);
    if (is->kind == Kind::File && fcntl(is->system, F_SETFL, flags & 1 ? O_APPEND : 0) < 0)
      return errno_of(errno);
    return success;
  });
  wasi_function(imports, "fd_fdstat_set_rights",
                [s](I&, U f, uint64_t, uint64_t) -> int32_t { return s->file(f) ? success : badf; });
  wasi_function(imports, "fd_prestat_get", [s](I& in, U f, U to) -> int32_t {
    OpenFile* is = s->file(f);
    if (!is || !is->preopened) return badf;
    Guest g(in);
    g.put(to, U(0));
    g.put(to + 4, static_cast<U>(s->options.folder_name.size()));
    return g.good() ? success : fault;
  });
  wasi_function(imports, "fd_prestat_dir_name", [s](I& in, U f, U to, U size) -> int32_t {
    OpenFile* is = s->file(f);
    if (!is || !is->preopened) return badf;
    const std::string& name = s->options.folder_name;
    if (size < name.size()) return nametoolong;
    Guest g(in);
    auto at = g.range(to, name.size());
    if (!g.good()) return fault;
    std::memcpy(at.data(), name.data(), name.size());
    return success;
  });
}

// What asks the system something of a file's number, and nothing of memory.
void add_plain(Imports& imports, const State& s) {
  using I = Instance;
  using U = uint32_t;
  auto on_file = [s](U f, auto call) -> int32_t {
    OpenFile* is = s->file(f);
    if (!is || is->system < 0) return badf;
    return call(is->system) == 0 ? success : errno_of(errno);
  };
  wasi_function(imports, "fd_sync",
                [on_file](I&, U f) -> int32_t { return on_file(f, [](int n) { return fsync(n); }); });
  wasi_function(imports, "fd_datasync",
                [on_file](I&, U f) -> int32_t { return on_file(f, [](int n) { return fdatasync(n); }); });
  wasi_function(imports, "fd_advise", [on_file](I&, U f, uint64_t, uint64_t, U) -> int32_t {
    return on_file(f, [](int) { return 0; });
  });
  wasi_function(imports, "fd_allocate", [on_file](I&, U f, uint64_t at, uint64_t size) -> int32_t {
    return on_file(f, [&](int n) {
      return (errno = posix_fallocate(n, static_cast<off_t>(at), static_cast<off_t>(size)));
    });
  });
  wasi_function(imports, "fd_filestat_set_size", [on_file](I&, U f, uint64_t size) -> int32_t {
    return on_file(f, [&](int n) { return ftruncate(n, static_cast<off_t>(size)); });
  });
  wasi_function(imports, "fd_filestat_set_times",
                [on_file](I&, U f, uint64_t a, uint64_t m, U flags) -> int32_t {
                  return on_file(f, [&](int n) { return futimens(n, FileTimes(a, m, flags).times); });
                });
  wasi_function(imports, "fd_filestat_get", [s](I& in, U f, U to) -> int32_t {
    OpenFile* is = s->file(f);
    if (!is) return badf;
    struct stat st {};
    if (is->system >= 0 && fstat(is->system, &st) != 0) return errno_of(errno);
    if (is->system < 0) st.st_mode = S_IFCHR;
    return put_stat(in, st, to);
  });
}

}  // namespace

FileTimes::FileTimes(uint64_t access, uint64_t change, uint32_t flags) {
  auto time = [](uint64_t at, bool given, bool now) {
    timespec out{};
    out.tv_sec = static_cast<time_t>(at / 1'000'000'000), out.tv_nsec = static_cast<long>(at % 1'000'000'000);
    if (!given) out.tv_nsec = now ? UTIME_NOW : UTIME_OMIT;
    return out;
  };
  times[0] = time(access, flags & 1, flags & 2);
  times[1] = time(change, flags & 4, flags & 8);
}

int32_t put_stat(Instance& in, const struct stat& is, uint32_t to) {
  Guest g(in);
  auto all = g.range(to, 64);
  if (!g.good()) return fault;
  std::memset(all.data(), 0, all.size());
  auto nanoseconds = [](const timespec& t) {
    return static_cast<uint64_t>(t.tv_sec) * 1'000'000'000 + static_cast<uint64_t>(t.tv_nsec);
  };
  g.put(to, static_cast<uint64_t>(is.st_dev));
  g.put(to + 8, static_cast<uint64_t>(is.st_ino));
  g.put(to + 16, type_of(is.st_mode));
  g.put(to + 24, static_cast<uint64_t>(is.st_nlink));
  g.put(to + 32, static_cast<uint64_t>(is.st_size));
  g.put(to + 40, nanoseconds(is.st_atim));
  g.put(to + 48, nanoseconds(is.st_mtim));
  g.put(to + 56, nanoseconds(is.st_ctim));
  return success;
}

void add_streams(Imports& imports, const State& state) {
  add_reading(imports, state);
  add_state(imports, state);
  add_plain(imports, state);
}

}  // namespace porphyry::wasm
