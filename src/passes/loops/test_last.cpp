// test-last: a loop whose head decides whether to go on decides at its end instead. The head is copied in
// front of the loop, where it guards it; the head itself becomes the last block of a round, and the block
// behind it the new head. Values of the head then have two definitions, which meet in block parameters (see
// Duplicates). Inner loops first. O(size of the heads + uses of their values), and dominators once.
#include <fmt/format.h>

#include "duplicates.h"
#include "front.h"
#include "porphyry/ir/edit.h"
#include "porphyry/optimize/pass.h"
#include "porphyry/print/print.h"

namespace porphyry {
namespace {

constexpr size_t most_of_head = 24;  // of a head that is copied

class Turner {
 public:
  explicit Turner(FunctionContext& c)
      : c_(c),
        f_(c.function),
        dominators_(c.facts.get<Dominators>()),
        loops_(c.facts.get<Loops>()),
        duplicates_(f_) {}

  void run() {
    const auto& order = dominators_.order();
    for (size_t k = order.size(); k-- > 0;) {
      Block head = order[k];
      if (!loops_.is_header(head) || f_.edges(head).size() != 2 || f_.op(f_.terminator(head)) != Op::When)
        continue;
      if (auto refusal = refused(head)) {
        if (!refusal->empty())
          c_.declined(f_.position(f_.terminator(head)), block_text(c_.module, f_, head),
                      "the loop is tested at its start", *refusal, "a head that may be copied");
      } else {
        turn(head);
      }
    }
    duplicates_.rejoin();
  }

 private:
  // Why a loop stays as it is; without words where there is nothing to turn.
  std::optional<std::string> refused(Block head) const {
    auto ways = f_.edges(head);
    bool stays[2];
    for (size_t k = 0; k < 2; ++k) stays[k] = loops_.contains(head, f_.to(ways[k]));
    if (stays[0] == stays[1]) return "";
    Block next = f_.to(ways[stays[0] ? 0 : 1]);
    if (next == head) return "";
    for (Edge e : f_.edges_into(head)) {
      Block from = f_.from(e);
      // A guard of an inner loop that leads back here: it is in this loop, which the analyses do not know.
      if (!dominators_.knows(from) || !dominators_.reachable(from)) return "";
      if (!loops_.contains(head, from)) continue;
      for (Edge way : f_.edges(from))
        if (!loops_.contains(head, f_.to(way))) return "";  // it is tested there already
    }
    if (f_.next_in(f_.first_in(next)).exists()) return "the block behind its head is come to from elsewhere";
    size_t count = 0;
    for (Instruction i : f_.instructions(head)) {
      if (f_.op(i) == Op::Reserve) return "its head reserves memory";
      if (++count > most_of_head) return "its head is too large";
    }
    return std::nullopt;
  }

  std::vector<Edge> entries(Block head) const {
    std::vector<Edge> out;
    for (Edge e : f_.edges_into(head))
      if (!loops_.contains(head, f_.from(e))) out.push_back(e);
    return out;
  }

  void turn(Block head) {
    duplicates_.copy({&head, 1}, f_.previous(head));
    Block guard = duplicates_.block(head);
    uint64_t times = 0;
    for (Edge e : entries(head)) times += f_.weight(e), lead_to(f_, e, guard);
    share_weights(head, guard, times);
    if (c_.wants_notes())
      c_.done(f_.position(f_.terminator(head)), block_text(c_.module, f_, head),
              "the loop is tested at its end, and once before it",
              "a round then takes one jump less, and what the loop comes to first may move in front of it");
  }
  // A loop that was measured is taken to go through at least one round each time.
  void share_weights(Block head, Block guard, uint64_t times) {
    for (size_t k = 0; k < 2; ++k) {
      Edge old = f_.edges(head)[k], made = f_.edges(guard)[k];
      if (f_.weight(old) == Function::no_weight) continue;
      uint64_t first = loops_.contains(head, f_.to(old)) ? std::min(times, f_.weight(old)) : 0;
      f_.set_weight(made, first);
      f_.set_weight(old, f_.weight(old) - first);
    }
  }

  FunctionContext& c_;
  Function& f_;
  const Dominators& dominators_;
  const Loops& loops_;
  Duplicates duplicates_;
};

}  // namespace

void test_last(FunctionContext& c) { Turner(c).run(); }

}  // namespace porphyry
