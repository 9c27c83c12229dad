// Idea: a loop that chooses by a jump table, as interpreters do, jumps on from one place after all of its
// cases, and what a processor learns about where that jump goes is mixed from all of them. With a jump at the
// end of each case it learns what comes behind that case, and the jump back to the one place is saved (M. A.
// Ertl, D. Gregg, "The Structure and Performance of Efficient Interpreters", 2003). So the block that
// chooses, with the loop's test if that stands in front of it, is repeated behind each case that goes there.
// For the like of it the short block at which rounds of a loop end, by going back or leaving, is repeated
// behind each block that would jump there: the round then takes one jump less. Invariant: a copy has one way
// in, from the block in front of it, and goes where what it repeats goes. Cost: linear in the code, which
// grows to twice its size at most.
#include "repeated_tails.h"

#include <optional>
#include <unordered_map>

#include "empty_blocks.h"

namespace porphyry::machine {
namespace {

constexpr uint32_t most_repeated = 12;  // lines of a block that is
constexpr uint32_t most_empty = 4;      // blocks in a row
constexpr uint32_t least_cases = 3;     // that lead back to a choice
constexpr float least_share = 1e-3f;    // of a choice's runs, that come from a case
constexpr uint32_t most_at_end = 4;     // lines of a block at which rounds end
constexpr float least_of_end = 0.1f;    // of its runs, that come from one place

class TailRepeater {
 public:
  TailRepeater(Allocation& a, const Target& target) : a_(a), f_(a.code), target_(target) {}

  void run() {
    if (f_.loops.empty()) return;
    find();
    if (plan_.empty()) return;
    renumber();
    remade_ = {a_.remade.begin(), a_.remade.end()};
    write();
  }

 private:
  // A successor, and the block that something is done in next, behind empty ones.
  struct Way {
    uint32_t by = none, to = none;
  };
  struct Repeat {
    uint32_t behind;  // a case, or any block that jumps to where rounds end
    Way test, last;   // that it goes on with: a choice behind a test, or one block alone
    uint32_t blocks() const { return test.to == none ? 1 : 2; }
  };
  Way way(uint32_t by) const {
    uint32_t to = by;
    for (uint32_t steps = 0; steps < most_empty && only_goes_on(f_, f_.blocks[to], target_); ++steps)
      to = f_.blocks[to].successors[0];
    return {by, to};
  }
  // Lines without copies within one register.
  uint32_t size(const CodeBlock& b) const {
    uint32_t out = 0;
    for (const CodeLine& i : std::span(f_.code).subspan(b.first, b.count)) out += !is_no_copy(f_, i);
    return out;
  }

  bool chooses(uint32_t b) const {
    const CodeBlock& block = f_.blocks[b];
    return block.table != none && block.loop != no_loop && size(block) <= most_repeated;
  }
  bool goes_on_with_more(const CodeBlock& b) const {
    return goes_on(f_, b, target_) && !only_goes_on(f_, b, target_);
  }
  std::optional<Repeat> end_at(uint32_t b) const {
    const CodeBlock& block = f_.blocks[b];
    if (!goes_on_with_more(block)) return std::nullopt;
    const Way next = way(block.successors[0]);
    const CodeBlock& end = f_.blocks[next.to];
    if (next.by == b + 1 || next.to == b + 1 || next.to == b) return std::nullopt;  // no jump is saved
    if (end.loop == no_loop || end.loop != block.loop || end.table != none || end.successors.size() != 2 ||
        size(end) > most_at_end || block.frequency < least_of_end * end.frequency)
      return std::nullopt;
    const uint32_t header = f_.loops[end.loop].header;
    for (uint32_t s : end.successors) {
      const CodeBlock& back = f_.blocks[s];  // or one of moves
      if (s == header || (goes_on(f_, back, target_) && back.successors[0] == header))
        return Repeat{b, {}, next};
    }
    return std::nullopt;
  }
  // What stands between the end of a case and the choice that it leads to: nothing, or one test.
  std::optional<Repeat> choice_at(uint32_t b) const {
    const CodeBlock& block = f_.blocks[b];
    if (!goes_on_with_more(block)) return std::nullopt;
    const Way next = way(block.successors[0]);
    Repeat out{b, {}, next};
    if (!chooses(next.to)) {
      const CodeBlock& test = f_.blocks[next.to];
      if (test.table != none || test.successors.size() != 2 || size(test) > most_repeated)
        return std::nullopt;
      const Way one = way(test.successors[0]), other = way(test.successors[1]);
      out = {b, next, chooses(one.to) ? one : other};
      if (!chooses(out.last.to)) return std::nullopt;
    }
    const CodeBlock& choice = f_.blocks[out.last.to];
    const bool is_case = f_.blocks[next.to].loop == choice.loop && block.loop == choice.loop &&
                         block.frequency >= least_share * choice.frequency;
    return is_case ? std::optional(out) : std::nullopt;
  }
  uint32_t lines(const Repeat& r) const {
    return size(f_.blocks[r.last.to]) + (r.test.to == none ? 0 : size(f_.blocks[r.test.to]));
  }

  void find() {
    std::vector<Repeat> all;
    std::unordered_map<uint32_t, uint32_t> cases;  // by choice
    for (uint32_t b = 0; b < f_.blocks.size(); ++b) {
      if (auto r = choice_at(b)) {
        all.push_back(*r), ++cases[r->last.to];
      } else if ((r = end_at(b))) {
        all.push_back(*r), cases[r->last.to] = least_cases;
      }
    }
    size_t room = f_.code.size();
    for (const Repeat& r : all) {
      if (cases[r.last.to] < least_cases || lines(r) > room) continue;
      room -= lines(r);
      for (uint32_t repeated : {r.test.to, r.last.to})
        if (repeated != none)
          f_.blocks[repeated].frequency =
              std::max(0.0f, f_.blocks[repeated].frequency - f_.blocks[r.behind].frequency);
      plan_.push_back(r);
    }
  }

  // Blocks move behind the copies in front of them, and all that names them follows.
  void renumber() {
    std::vector<uint32_t> places(f_.blocks.size());
    auto next = plan_.begin();
    for (uint32_t b = 0, place = 0; b < places.size(); ++b) {
      places[b] = place++;
      if (next != plan_.end() && next->behind == b) place += next++->blocks();
    }
    for (CodeOperand& o : f_.operands)
      if (o.kind == OperandKind::Label) o.value = places[static_cast<size_t>(o.value)];
    f_.tables.renumber(places);
    for (CodeLoop& l : f_.loops) l.header = places[l.header];
    for (CodeBlock& b : f_.blocks) {
      Successors to;
      for (uint32_t s : b.successors) to.push_back(places[s]);
      b.successors = to;
    }
    places_ = std::move(places);
  }

  void write() {
    CodeRows<CodeLine> code(f_.code.get_allocator());
    CodeRows<CodeBlock> blocks(f_.blocks.get_allocator());
    auto add_lines = [&](const CodeBlock& from) {
      blocks.push_back(from);
      blocks.back().first = static_cast<uint32_t>(code.size());
      for (uint32_t k = from.first; k < from.first + from.count; ++k) code.push_back(f_.code[k]);
    };
    auto next = plan_.begin();
    for (uint32_t b = 0; b < f_.blocks.size(); ++b) {
      add_lines(f_.blocks[b]);
      if (next == plan_.end() || next->behind != b) continue;
      // Each is come to from the one before.
      for (const auto& [by, from] : {next->test, next->last}) {
        if (from == none) continue;
        const auto place = static_cast<uint32_t>(blocks.size());
        lead(blocks.back(), {code.data() + blocks.back().first, blocks.back().count}, places_[by], place);
        add_lines(f_.blocks[from]);
        for (CodeLine& i : std::span(code).subspan(blocks.back().first)) own_operands(i);
        blocks.back().copy = ++copies_[from];
        blocks.back().frequency = f_.blocks[b].frequency;
      }
      ++next;
    }
    f_.code = std::move(code);
    f_.blocks = std::move(blocks);
  }

  // Lets a block go to `to` where it went to `from`.
  void lead(CodeBlock& block, std::span<CodeLine> lines, uint32_t from, uint32_t to) {
    Successors all;
    for (uint32_t s : block.successors) all.push_back(s == from ? to : s);
    block.successors = all;
    for (const CodeLine& i : lines)
      for (CodeOperand& o : f_.of(i))
        if (o.kind == OperandKind::Label && o.value == from) o.value = to;
  }

  // A copy is changed later without what it was copied from.
  void own_operands(CodeLine& i) {
    const bool remembered = !a_.virtual_of.empty();
    const auto first = static_cast<uint32_t>(f_.operands.size());
    for (uint32_t k = i.first_operand; k < i.first_operand + i.operand_count; ++k) {
      CodeOperand o = f_.operands[k];
      if (o.kind == OperandKind::Memory || o.kind == OperandKind::Address) {
        const auto row = static_cast<size_t>(o.value);
        o.value = static_cast<int64_t>(f_.addresses.size());
        f_.addresses.push_back(CodeAddress(f_.addresses[row]));
        if (remembered) a_.of_address.push_back(std::pair(a_.of_address[row]));
      }
      if (const auto at = remade_.find(k); at != remade_.end())
        a_.remade.emplace_back(static_cast<uint32_t>(f_.operands.size()), at->second);
      f_.operands.push_back(o);
      if (remembered) a_.virtual_of.push_back(Register(a_.virtual_of[k]));
    }
    i.first_operand = first;
  }

  Allocation& a_;
  Code& f_;
  const Target& target_;
  std::vector<Repeat> plan_;      // in the order of the code
  std::vector<uint32_t> places_;  // by block as it was
  std::unordered_map<uint32_t, Register> remade_;
  std::unordered_map<uint32_t, uint32_t> copies_;  // by block as it was: how many there are
};

}  // namespace

void repeat_tails(Allocation& allocation, const Target& target) { TailRepeater(allocation, target).run(); }

}  // namespace porphyry::machine
