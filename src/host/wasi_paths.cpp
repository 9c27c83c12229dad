// What takes a path. A path is walked part by part from the folder that the host named, never through a link:
// each part is opened on its own, `..` goes back to the folder walked through before, and above the first
// there is nothing. So no change that another process makes meanwhile leads out.
#include <fcntl.h>
#include <unistd.h>

#include <cerrno>

#include "wasi_files.h"

namespace porphyry::wasm {
namespace {

using Kind = OpenFile::Kind;

class Descriptor {
 public:
  explicit Descriptor(int number) : number_(number) {}
  Descriptor(Descriptor&& other) noexcept : number_(std::exchange(other.number_, -1)) {}
  Descriptor& operator=(Descriptor&& other) noexcept {
    std::swap(number_, other.number_);
    return *this;
  }
  ~Descriptor() {
    if (number_ >= 0) close(number_);
  }
  int get() const { return number_; }
  int release() { return std::exchange(number_, -1); }

 private:
  int number_;
};

// Where a path leads: a folder that is open, and the last part's name in it.
struct Place {
  int32_t error = success;
  Descriptor folder{-1};
  std::string name;                // "." for the folder itself
  std::vector<std::string> parts;  // of that folder, under the host's
};

std::vector<std::string> split(std::string_view path) {
  std::vector<std::string> out;
  while (!path.empty()) {
    size_t end = std::min(path.find('/'), path.size());
    if (end > 0) out.emplace_back(path.substr(0, end));
    path.remove_prefix(std::min(end + 1, path.size()));
  }
  return out;
}

// The host's folder, opened anew.
int first_folder(WasiState& s) {
  for (auto& [number, f] : s.files)
    if (f.preopened) return openat(f.system, ".", O_RDONLY | O_DIRECTORY | O_CLOEXEC);
  return errno = EBADF, -1;
}

Place walk(WasiState& s, Instance& in, uint32_t number, uint32_t at, uint32_t size) {
  Place out;
  auto fails = [&](int32_t why) { return out.error = why, std::move(out); };
  OpenFile* base = s.file(number);
  if (!base) return fails(badf);
  if (base->kind != Kind::Folder) return fails(notdir);
  Guest g(in);
  std::string path = g.text(at, size);
  if (!g.good()) return fails(fault);
  if (path.empty()) return fails(noent);
  if (path[0] == '/' || path.find('\0') != path.npos) return fails(path[0] == '/' ? notcapable : inval);
  std::vector<std::string> names = base->parts;
  for (std::string& part : split(path)) names.push_back(std::move(part));
  std::vector<Descriptor> open;  // the folders walked through
  open.emplace_back(first_folder(s));
  if (open.back().get() < 0) return fails(errno_of(errno));
  bool ends_as_folder = path.back() == '/';
  for (size_t k = 0; k < names.size(); ++k) {
    bool last = k + 1 == names.size() && !ends_as_folder;
    if (names[k] == ".") continue;
    if (names[k] == "..") {
      if (open.size() == 1) return fails(notcapable);
      open.pop_back(), out.parts.pop_back();
      continue;
    }
    if (last) {
      out.name = names[k];
      break;
    }
    int next = openat(open.back().get(), names[k].c_str(), O_RDONLY | O_DIRECTORY | O_NOFOLLOW | O_CLOEXEC);
    if (next < 0) return fails(errno_of(errno));
    open.emplace_back(next), out.parts.push_back(names[k]);
  }
  if (out.name.empty()) out.name = ".";
  out.folder = std::move(open.back());
  return out;
}

int32_t open_path(WasiState& s, Instance& in, uint32_t number, uint32_t at, uint32_t size, uint32_t how,
                  uint64_t rights, uint32_t flags, uint32_t to) {
  Place place = walk(s, in, number, at, size);
  if (place.error) return place.error;
  constexpr uint64_t may_read = 1 << 1, may_write = 1 << 6;
  bool folder = how & 2, writes = rights & may_write;
  int mode = folder || !writes ? O_RDONLY : rights & may_read ? O_RDWR : O_WRONLY;
  if (how & 1) mode |= O_CREAT;
  if (folder) mode |= O_DIRECTORY;
  if (how & 4) mode |= O_EXCL;
  if (how & 8) mode |= O_TRUNC;
  if (flags & 1) mode |= O_APPEND;
  auto opened = [&](int m) {
    return openat(place.folder.get(), place.name.c_str(), m | O_NOFOLLOW | O_CLOEXEC | O_NONBLOCK, 0666);
  };
  int got = opened(mode);
  if (got < 0 && errno == EISDIR && !(how & 9)) got = opened(O_RDONLY | O_DIRECTORY);
  if (got < 0) return errno_of(errno);
  struct stat is {};
  fstat(got, &is);
  OpenFile file(S_ISDIR(is.st_mode) ? Kind::Folder : Kind::File, got);
  if (!S_ISDIR(is.st_mode) && !S_ISREG(is.st_mode)) return acces;  // devices, pipes: not files of the folder
  file.flags = static_cast<uint16_t>(flags);
  if (file.kind == Kind::Folder) {
    file.parts = place.parts;
    if (place.name != ".") file.parts.push_back(place.name);
  }
  if (s.files.size() >= 1000) return mfile;
  Guest g(in);
  if (g.range(to, 4).empty()) return fault;
  g.put(to, s.add(std::move(file)));
  return success;
}

using U = uint32_t;

// A path and a call of the system on it.
template <class Call>
int32_t on_path(WasiState& s, Instance& in, U number, U at, U size, Call call) {
  Place p = walk(s, in, number, at, size);
  if (p.error) return p.error;
  return call(p.folder.get(), p.name.c_str()) == 0 ? success : errno_of(errno);
}

void add_changes(Imports& imports, const State& s) {
  using I = Instance;
  wasi_function(imports, "path_create_directory", [s](I& in, U f, U at, U size) -> int32_t {
    return on_path(*s, in, f, at, size,
                   [](int folder, const char* name) { return mkdirat(folder, name, 0777); });
  });
  wasi_function(imports, "path_remove_directory", [s](I& in, U f, U at, U size) -> int32_t {
    return on_path(*s, in, f, at, size,
                   [](int folder, const char* name) { return unlinkat(folder, name, AT_REMOVEDIR); });
  });
  wasi_function(imports, "path_unlink_file", [s](I& in, U f, U at, U size) -> int32_t {
    return on_path(*s, in, f, at, size,
                   [](int folder, const char* name) { return unlinkat(folder, name, 0); });
  });
  wasi_function(imports, "path_rename", [s](I& in, U f, U at, U size, U g, U to, U to_size) -> int32_t {
    Place from = walk(*s, in, f, at, size), target = walk(*s, in, g, to, to_size);
    if (from.error || target.error) return from.error ? from.error : target.error;
    int done = renameat(from.folder.get(), from.name.c_str(), target.folder.get(), target.name.c_str());
    return done == 0 ? success : errno_of(errno);
  });
  wasi_function(imports, "path_link", [](I&, U, U, U, U, U, U, U) -> int32_t { return notsup; });
  wasi_function(imports, "path_symlink", [](I&, U, U, U, U, U) -> int32_t { return notsup; });
}

}  // namespace

void add_paths(Imports& imports, const State& s) {
  using I = Instance;
  add_changes(imports, s);
  wasi_function(imports, "path_open",
                [s](I& in, U f, U, U at, U size, U how, uint64_t rights, uint64_t, U flags, U to) -> int32_t {
                  return open_path(*s, in, f, at, size, how, rights, flags, to);
                });
  wasi_function(imports, "path_filestat_get", [s](I& in, U f, U, U at, U size, U to) -> int32_t {
    struct stat is {};
    int32_t error = on_path(*s, in, f, at, size, [&](int folder, const char* name) {
      return fstatat(folder, name, &is, AT_SYMLINK_NOFOLLOW);
    });
    return error ? error : put_stat(in, is, to);
  });
  wasi_function(imports, "path_filestat_set_times",
                [s](I& in, U f, U, U at, U size, uint64_t a, uint64_t m, U flags) -> int32_t {
                  return on_path(*s, in, f, at, size, [&](int folder, const char* name) {
                    return utimensat(folder, name, FileTimes(a, m, flags).times, AT_SYMLINK_NOFOLLOW);
                  });
                });
  wasi_function(imports, "path_readlink", [s](I& in, U f, U at, U size, U to, U room, U used) -> int32_t {
    Place p = walk(*s, in, f, at, size);
    if (p.error) return p.error;
    Guest g(in);
    auto bytes = g.range(to, room);
    if (!g.good()) return fault;
    ssize_t n =
        readlinkat(p.folder.get(), p.name.c_str(), reinterpret_cast<char*>(bytes.data()), bytes.size());
    if (n < 0) return errno_of(errno);
    g.put(used, static_cast<U>(n));
    return g.good() ? success : fault;
  });
}

}  // namespace porphyry::wasm
