#include "porphyry/base/files.h"

#include <fcntl.h>
#include <fmt/format.h>
#include <unistd.h>

#include <cerrno>
#include <cstdio>
#include <cstring>
#include <fstream>
#include <sstream>

namespace porphyry {

Result<std::string> read_file(const std::string& path) {
  std::ifstream in(path, std::ios::binary);
  std::ostringstream bytes;
  if (in && in.peek() != EOF) bytes << in.rdbuf();
  if (!in.is_open() || in.bad() || bytes.fail())
    return complaint("cannot read '" + path + "': " + std::strerror(errno ? errno : EIO),
                     "a file that can be read");
  return bytes.str();
}

namespace {

// Writes all of it; false, with errno, when that fails.
bool write_all(int file, std::string_view bytes) {
  while (!bytes.empty()) {
    ssize_t n = write(file, bytes.data(), bytes.size());
    if (n < 0 && errno == EINTR) continue;
    if (n < 0) return false;
    bytes.remove_prefix(static_cast<size_t>(n));
  }
  return true;
}

}  // namespace

// First into a file without a name, of which nothing is left whenever the process ends; where the file system
// has no such files, into one beside. Special files (terminals, /dev/null) are written in place.
Diagnostics write_file(const std::string& path, std::string_view bytes) {
  bool in_place = path.starts_with("/dev/");
  std::string beside = fmt::format("{}.{}.part", path, getpid());
  size_t slash = path.rfind('/');
  std::string folder = slash == path.npos ? "." : path.substr(0, slash + 1);
  int file = in_place ? open(path.c_str(), O_WRONLY | O_CLOEXEC)
                      : open(folder.c_str(), O_TMPFILE | O_WRONLY | O_CLOEXEC, 0666);
  bool unnamed = file >= 0 && !in_place;
  if (file < 0 && !in_place) file = open(beside.c_str(), O_WRONLY | O_CREAT | O_TRUNC | O_CLOEXEC, 0666);
  bool good = file >= 0 && write_all(file, bytes);
  int error = errno;
  if (good && unnamed) {
    std::string link = fmt::format("/proc/self/fd/{}", file);
    good = linkat(AT_FDCWD, link.c_str(), AT_FDCWD, beside.c_str(), AT_SYMLINK_FOLLOW) == 0;
    error = errno;
  }
  if (file >= 0 && close(file) != 0 && good) good = false, error = errno;
  if (good && !in_place && std::rename(beside.c_str(), path.c_str()) != 0) good = false, error = errno;
  if (good) return {};
  if (file >= 0 && !in_place) std::remove(beside.c_str());
  return {complaint("cannot write '" + path + "': " + std::strerror(error), "a place that can be written")};
}

}  // namespace porphyry
