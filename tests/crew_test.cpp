// Searches by several processes: the same answer as alone, whoever dies, whatever gets lost or comes late.
#include <gtest/gtest.h>
#include <signal.h>
#include <sys/wait.h>
#include <unistd.h>

#include <deque>
#include <filesystem>
#include <mutex>
#include <thread>

#include "porphyry/ask/crew.h"
#include "porphyry/ask/hunt.h"
#include "porphyry/targets/targets.h"
#include "support/measure.h"
#include "support/process.h"
#include "support/read.h"

namespace porphyry {
namespace {

// Threads instead of processes. A mailbox may lose what is put in.
struct Post {
  std::mutex lock;
  std::vector<std::deque<Messenger::Message>> boxes = std::vector<std::deque<Messenger::Message>>(4);
  int leaves_together = 0, leaves_alone = 0;
};

class ThreadMessenger : public Messenger {
 public:
  // It dies when it has sent so many answers.
  ThreadMessenger(Post& post, unsigned self, size_t life) : post_(post), self_(self), life_(life) {}
  unsigned self() const override { return self_; }
  unsigned count() const override { return static_cast<unsigned>(post_.boxes.size()); }
  void send(unsigned to, std::string text) override {
    std::lock_guard guard(post_.lock);
    if (text.starts_with("cost") && answers_++ >= life_) return;
    post_.boxes[to].push_back({self_, std::move(text)});
  }
  std::optional<Message> receive() override {
    std::lock_guard guard(post_.lock);
    auto& box = post_.boxes[self_];
    if (box.empty()) return {};
    Message out = std::move(box.front());
    box.pop_front();
    // The dead hear nothing but the end, so that their threads have one.
    return answers_ > life_ && !out.text.starts_with("over") ? std::optional<Message>() : out;
  }
  void leave(bool all) override {
    std::lock_guard guard(post_.lock);
    ++(all ? post_.leaves_together : post_.leaves_alone);
  }

 private:
  Post& post_;
  unsigned self_;
  size_t life_, answers_ = 0;
};

std::unique_ptr<Module> ledger(Realm& realm) {
  SourceText source("ledger.por", testing::contents(PORPHYRY_ROOT "/demo/ledger.por"));
  return std::move(*load_text(realm, source));
}

struct Searched {
  std::string state;
  int together, alone;
};
Searched searched(const std::array<size_t, 4>& lives) {
  Realm realm;
  auto module = ledger(realm);
  HuntQuestion question{.function = "ways", .children = 8};
  Post post;
  std::vector<std::jthread> others;
  for (unsigned k = 1; k < 4; ++k)
    others.emplace_back([&, k] {
      ThreadMessenger messenger(post, k, lives[k]);
      auto hunt = Hunt::make(*module, question, *native_target());
      EXPECT_TRUE(answer(messenger, **hunt).empty());
    });
  HuntState state{.seed = 5};
  {
    ThreadMessenger messenger(post, 0, ~size_t(0));
    auto hunt = Hunt::make(*module, question, *native_target());
    Crew crew(messenger, (*hunt)->stamp());
    HuntQuestion led = question;
    led.crew = &crew;
    auto leader = Hunt::make(*module, led, *native_target());
    for (int k = 0; k < 4; ++k) EXPECT_TRUE((*leader)->next_generation(state));
    EXPECT_TRUE(crew.strangers().empty());
  }
  others.clear();
  return {write_state(state), post.leaves_together, post.leaves_alone};
}

TEST(Crew, IsTheSameWhoeverDies) {
  constexpr size_t ever = ~size_t(0);
  const Searched all = searched({ever, ever, ever, ever});
  EXPECT_EQ(all.together, 4);
  const Searched two = searched({ever, ever, 3, 1});
  EXPECT_EQ(two.together, 0) << "somebody waits for one that is dead";
  EXPECT_EQ(two.state, all.state);
  EXPECT_EQ(searched({ever, 0, 0, 0}).state, all.state);  // the leader is alone
  Realm realm;
  auto module = ledger(realm);
  HuntState alone{.seed = 5};
  const HuntQuestion question{.function = "ways", .children = 8, .threads = 1};
  auto hunt = Hunt::make(*module, question, *native_target());
  for (int k = 0; k < 4; ++k) (*hunt)->next_generation(alone);
  EXPECT_EQ(write_state(alone), all.state);
}

TEST(Crew, SendsAwayWhoSearchesForSomethingElse) {
  Realm realm;
  auto module = ledger(realm);
  const HuntQuestion ways{.function = "ways", .children = 4}, clock{.function = "clock"};
  Post post;
  post.boxes.resize(2);
  std::jthread other([&] {
    ThreadMessenger messenger(post, 1, 9);
    auto hunt = Hunt::make(*module, clock, *native_target());
    EXPECT_EQ(answer(messenger, **hunt).size(), 1u);
  });
  ThreadMessenger messenger(post, 0, 9);
  HuntQuestion led = ways;
  Crew crew(messenger, (*Hunt::make(*module, ways, *native_target()))->stamp());
  led.crew = &crew;
  auto hunt = Hunt::make(*module, led, *native_target());
  HuntState state;
  for (int k = 0; k < 100 && crew.strangers().empty(); ++k) EXPECT_TRUE((*hunt)->next_generation(state));
  EXPECT_EQ(crew.strangers(), std::vector<unsigned>{1});
}

// The environment of a process, which says what number it has among its like.
bool has_number(const std::string& process, int number) {
  const std::string words = testing::contents("/proc/" + process + "/environ");
  return words.find("OMPI_COMM_WORLD_RANK=" + std::to_string(number) + '\0') != words.npos;
}

TEST(Crew, OfTheToolGoesOnWhenProcessesAreKilled) {
  testing::TemporaryFolder folder;
  const std::string words = " hunt " PORPHYRY_ROOT
                            "/demo/ledger.por --function ways --seed 3 --json --rounds " +
                            std::to_string(testing::part_of(60));
  const std::string state = folder.file("state.json"), out = folder.file("out.json"),
                    pids = folder.file("pids");
  const std::string mpi =
      "env ASAN_OPTIONS=detect_leaks=0 OMPI_MCA_rmaps_base_oversubscribe=1 timeout 300 mpirun "
      "--allow-run-as-root "
      "--enable-recovery -n 4 " PORPHYRY_TOOL;
  const std::string alone = testing::run_command(PORPHYRY_TOOL + words).out;
  // Two of the three that answer are killed while it searches.
  std::jthread killer([&] {
    for (int k = 0; k < 60'000 && !std::filesystem::exists(state); ++k)
      std::this_thread::sleep_for(std::chrono::milliseconds(1));
    int killed = 0;
    for (const auto& entry : std::filesystem::directory_iterator("/proc")) {
      const std::string name = entry.path().filename();
      if (name.find_first_not_of("0123456789") != name.npos) continue;
      std::error_code none;
      if (std::filesystem::read_symlink(entry.path() / "exe", none) != PORPHYRY_TOOL) continue;
      if (testing::contents(entry.path() / "cmdline").find(state) == std::string::npos) continue;
      if (has_number(name, 1) || has_number(name, 3)) killed += kill(std::stoi(name), SIGKILL) == 0;
    }
    EXPECT_EQ(killed, 2);
  });
  const auto run = testing::run_command(mpi + words + " --spread --state " + state + " -o " + out);
  killer.join();
  EXPECT_EQ(testing::contents(out), alone) << run.out;
  // Alone, it says how it is started.
  EXPECT_EQ(testing::run_command("env ASAN_OPTIONS=detect_leaks=0 " PORPHYRY_TOOL + words + " --spread 2>&1")
                .status,
            2);
}

}  // namespace
}  // namespace porphyry
