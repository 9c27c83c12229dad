// Runs a program and takes what it prints.
#pragma once

#include <sys/wait.h>
#include <unistd.h>

#include <cstdio>
#include <fstream>
#include <sstream>
#include <string>

namespace porphyry::testing {

struct Ran {
  int status = -1;
  std::string out;  // standard output and, when asked for with 2>&1, standard error
};

inline Ran run_command(const std::string& command) {
  Ran r;
  std::FILE* pipe = popen(command.c_str(), "r");
  if (!pipe) return r;
  char buffer[4096];
  for (size_t n; (n = fread(buffer, 1, sizeof buffer, pipe)) > 0;) r.out.append(buffer, n);
  int status = pclose(pipe);
  r.status = WIFEXITED(status) ? WEXITSTATUS(status) : 128 + WTERMSIG(status);
  return r;
}

// A folder of its own, removed afterwards.
class TemporaryFolder {
 public:
  TemporaryFolder() {
    char name[] = "/tmp/porphyry.XXXXXX";
    path_ = mkdtemp(name);
  }
  ~TemporaryFolder() { run_command("rm -rf " + path_); }
  std::string file(const std::string& name) const { return path_ + "/" + name; }
  std::string write(const std::string& name, const std::string& text) const {
    std::ofstream(file(name), std::ios::binary) << text;
    return file(name);
  }

 private:
  std::string path_;
};

inline std::string contents(const std::string& path) {
  std::ifstream in(path, std::ios::binary);
  std::ostringstream out;
  out << in.rdbuf();
  return out.str();
}

}  // namespace porphyry::testing
