// Cuts a program down to what still makes a command end as it did.
#include <fcntl.h>
#include <fmt/format.h>
#include <signal.h>
#include <sys/wait.h>
#include <unistd.h>

#include <chrono>
#include <thread>

#include "common.h"
#include "porphyry/base/files.h"
#include "porphyry/print/print.h"
#include "porphyry/sample/reduce.h"
#include "verbs.h"

namespace porphyry::tool {
namespace {

// How a command ended; all that ran too long ended alike.
struct Ended {
  int status = 0;
  bool said = true;  // the words that were asked for
  bool operator==(const Ended&) const = default;
};
constexpr int too_long = -1;

std::string ended_text(const Ended& e) {
  if (e.status == too_long) return "runs longer than it may";
  if (WIFSIGNALED(e.status)) return fmt::format("ends by signal {}", WTERMSIG(e.status));
  return fmt::format("ends with {}", WEXITSTATUS(e.status));
}

// A file that goes with the object.
class ScratchFile {
 public:
  explicit ScratchFile(const char* ending) : name_(std::string("/tmp/porphyry.XXXXXX") + ending) {
    file_ = mkstemps(name_.data(), static_cast<int>(std::string_view(ending).size()));
    if (file_ < 0)
      fail({complaint("there is no room for files in /tmp", "a folder to write to")}, input_at_fault);
  }
  ~ScratchFile() {
    close(file_);
    unlink(name_.c_str());
  }
  ScratchFile(const ScratchFile&) = delete;
  const std::string& name() const { return name_; }
  int file() const { return file_; }

 private:
  std::string name_;
  int file_ = -1;
};

// Runs a command of the shell in a process group of its own, which ends with its time.
int run_shell(const std::string& command, int output, double seconds) {
  pid_t child = fork();
  if (child < 0) return too_long;
  if (child == 0) {
    setpgid(0, 0);
    int nothing = open("/dev/null", O_RDWR);
    dup2(nothing, STDIN_FILENO);
    dup2(output < 0 ? nothing : output, STDOUT_FILENO);
    dup2(output < 0 ? nothing : output, STDERR_FILENO);
    execl("/bin/sh", "sh", "-c", command.c_str(), nullptr);
    _exit(127);
  }
  const auto end = std::chrono::steady_clock::now() + std::chrono::duration<double>(seconds);
  int status = 0;
  for (auto pause = std::chrono::microseconds(200);;
       pause = std::min(2 * pause, std::chrono::microseconds(5000))) {
    if (waitpid(child, &status, WNOHANG) == child) return status;
    if (std::chrono::steady_clock::now() > end) break;
    std::this_thread::sleep_for(pause);
  }
  kill(-child, SIGKILL);
  waitpid(child, &status, 0);
  return too_long;
}

std::string with_file(std::string command, const std::string& file) {
  for (size_t at = 0; (at = command.find("{}", at)) != command.npos; at += file.size())
    command.replace(at, 2, file);
  return command;
}

Ended try_out(const Options& o, const std::string& text) {
  ScratchFile program(".por"), said(".txt");
  if (!write_file(program.name(), text).empty()) return {too_long, false};
  Ended out{run_shell(with_file(o.test, program.name()), o.says.empty() ? -1 : said.file(), o.time_limit)};
  if (o.says.empty()) return out;
  auto words = read_file(said.name());
  out.said = words && words->find(o.says) != std::string::npos;
  return out;
}

size_t line_count(const std::string& text) {
  return static_cast<size_t>(std::count(text.begin(), text.end(), '\n'));
}

}  // namespace

int verb_shrink(const Options& o) {
  return guarded([&] {
    check_ending(o, {".por"});
    if (o.test.find("{}") == std::string::npos)
      fail({complaint("the command does not name the file", "{} in --test, where the file goes")},
           call_at_fault);
    auto loaded = load(o);
    const std::string whole = write_text(*loaded->module);
    const Ended wanted = try_out(o, whole);
    if (!wanted.said)
      fail({complaint("with the whole program the command does not print '" + o.says + "'",
                      "words that it prints")},
           call_at_fault);
    const unsigned threads = o.threads ? o.threads : std::max(1u, std::thread::hardware_concurrency());
    auto started = std::chrono::steady_clock::now();
    auto line = [&](const char* what) {
      return [&, what](size_t attempts, size_t left) {
        if (std::chrono::steady_clock::now() - started < std::chrono::seconds(1)) return;
        show_progress(fmt::format("{} tries, {} left", attempts, counted(left, what)));
      };
    };
    ShowsFault still = [&](const Module& m) { return try_out(o, write_text(m)) == wanted; };
    ReduceOptions options{.most_attempts = 20'000, .threads = threads, .progress = line("instruction")};
    auto small = reduce(*loaded->module, {}, still, options);
    options.progress = line("line");
    std::string text = reduce_text(write_text(*small), still, options);
    show_progress("");
    put_out(o, text);
    if (text.empty()) say("with nothing left the command still does: it does not tell programs apart\n");
    say(fmt::format("{} of {}; the command still {}\n", counted(line_count(text), "line"), line_count(whole),
                    ended_text(wanted)));
  });
}

}  // namespace porphyry::tool
