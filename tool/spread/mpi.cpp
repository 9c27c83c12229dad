// Carries a search's messages between processes that an MPI has started ("MPI: A Message-Passing Interface
// Standard", version 3.1). A library of its own, so that only a search over several machines loads the
// engine.
#include <mpi.h>

#include <chrono>
#include <list>
#include <thread>

#include "porphyry/ask/crew.h"

namespace porphyry::tool {
namespace {

class MpiMessenger : public Messenger {
 public:
  MpiMessenger() {
    // One thread calls; a process that has died is no reason to end the others.
    int level = 0;
    MPI_Init_thread(nullptr, nullptr, MPI_THREAD_FUNNELED, &level);
    MPI_Comm_set_errhandler(MPI_COMM_WORLD, MPI_ERRORS_RETURN);
    MPI_Comm_rank(MPI_COMM_WORLD, &self_);
    MPI_Comm_size(MPI_COMM_WORLD, &count_);
  }
  unsigned self() const override { return static_cast<unsigned>(self_); }
  unsigned count() const override { return static_cast<unsigned>(count_); }

  void send(unsigned to, std::string text) override {
    forget_sent();
    size_t waiting = 0;
    for (const Sent& s : sent_) waiting += s.to == to;
    if (waiting >= most_waiting) return;  // it takes nothing any more
    Sent& s = sent_.emplace_back(to, std::move(text));
    if (MPI_Isend(s.text.data(), static_cast<int>(s.text.size()), MPI_CHAR, static_cast<int>(to), tag,
                  MPI_COMM_WORLD, &s.request) != MPI_SUCCESS)
      sent_.pop_back();
  }

  std::optional<Message> receive() override {
    forget_sent();
    int there = 0, size = 0;
    MPI_Status status;
    if (MPI_Iprobe(MPI_ANY_SOURCE, tag, MPI_COMM_WORLD, &there, &status) != MPI_SUCCESS || !there) return {};
    MPI_Get_count(&status, MPI_CHAR, &size);
    Message out{static_cast<unsigned>(status.MPI_SOURCE), std::string(static_cast<size_t>(size), ' ')};
    if (MPI_Recv(out.text.data(), size, MPI_CHAR, status.MPI_SOURCE, tag, MPI_COMM_WORLD,
                 MPI_STATUS_IGNORE) != MPI_SUCCESS)
      return {};
    return out;
  }

  void leave(bool all_are_there) override {
    // The end waits for everybody: when one has died, for ever. Then what was sent last has a moment to go.
    if (all_are_there) return void(MPI_Finalize());
    for (int k = 0; k < 1'000 && !sent_.empty(); ++k) {
      std::this_thread::sleep_for(std::chrono::milliseconds(1));
      forget_sent();
    }
  }

 private:
  static constexpr int tag = 1;
  static constexpr size_t most_waiting = 100;
  struct Sent {
    Sent(unsigned to, std::string text) : to(to), text(std::move(text)) {}
    unsigned to;
    std::string text;  // stays where it is until it has gone
    MPI_Request request = MPI_REQUEST_NULL;
  };
  void forget_sent() {
    std::erase_if(sent_, [](Sent& s) {
      int gone = 0;
      return MPI_Test(&s.request, &gone, MPI_STATUS_IGNORE) != MPI_SUCCESS || gone;
    });
  }
  int self_ = 0, count_ = 1;
  std::list<Sent> sent_;
};

}  // namespace
}  // namespace porphyry::tool

extern "C" __attribute__((visibility("default"))) porphyry::Messenger* porphyry_messenger() {
  return new porphyry::tool::MpiMessenger;
}
