// split-slots: a stack slot whose parts are only loaded and stored becomes one slot for each part, so that
// parts can become values. Parts are the byte ranges of accesses; those that overlap are one part. O(uses log
// uses) a slot.
#include <fmt/format.h>

#include <algorithm>

#include "porphyry/optimize/pass.h"

namespace porphyry {
namespace {

class SlotSplitter {
 public:
  explicit SlotSplitter(FunctionContext& c) : c_(c), f_(c.function) {}

  void run() {
    std::vector<Instruction> slots;
    for (Block b : f_.blocks())
      for (Instruction i : f_.instructions(b))
        if (f_.op(i) == Op::Reserve) slots.push_back(i);
    for (Instruction slot : slots) one(slot);
  }

 private:
  struct Access {
    Instruction at;
    uint64_t from, to;
  };
  struct Part {
    uint64_t from, to;
    uint32_t align;
    size_t first, count;  // accesses
  };

  void one(Instruction slot) {
    accesses_.clear(), addresses_.clear();
    const uint64_t bytes = f_.reserve_shape(slot).bytes;
    if (auto why = gather(f_.result(slot), 0, bytes)) {
      // One access that covers the slot is for promote; only what is used in parts is told of.
      if (accesses_.size() > 1)
        c_.declined(f_.position(slot), name(slot), "the slot stays whole", *why,
                    "loads and stores of its parts alone");
      return;
    }
    std::vector<Part> parts = parts_of(slot);
    if (parts.size() < 2 && (parts.empty() || (parts[0].from == 0 && addresses_.empty()))) return;
    if (c_.wants_notes())
      c_.done(f_.position(slot), name(slot), "the slot became one for each part",
              "its parts are only loaded and stored",
              {{"bytes", std::to_string(bytes)}, {"parts", std::to_string(parts.size())}});
    for (const Part& p : parts) make(slot, p);
    for (size_t k = addresses_.size(); k-- > 0;) f_.erase(addresses_[k]);
    f_.erase(slot);
  }
  std::string name(Instruction slot) const { return c_.wants_notes() ? c_.name(f_.result(slot)) : ""; }

  // Why the slot cannot be split; nothing when it can.
  std::optional<std::string> gather(Value p, uint64_t offset, uint64_t bytes) {
    for (Slot s : f_.uses(p)) {
      auto use = f_.use(s);
      Op op = f_.op(use.user);
      if (use.edge.exists()) return "its address goes to another block as an argument";
      bool stores = op == Op::Store && f_.operand(use.user, 0) != p;
      if (op != Op::Load && op != Op::At && !stores)
        return fmt::format("its address is used by '{}'", info(op).name);
      const Address& a = f_.address(use.user);
      if (a.indexed) return "an access has an index";
      if (a.masked) return "an access is masked";
      if (a.is_volatile) return "an access is volatile";
      uint64_t from = offset + static_cast<uint64_t>(a.offset);
      if (op == Op::At) {
        addresses_.push_back(use.user);
        if (auto why = gather(f_.result(use.user), from, bytes)) return why;
        continue;
      }
      Type t = stores ? f_.type(f_.operand(use.user, 0)) : f_.type(f_.result(use.user));
      if (from > bytes || t.bytes() > bytes - from) return "an access reaches past its end";
      accesses_.push_back({use.user, from, from + t.bytes()});
    }
    return std::nullopt;
  }

  std::vector<Part> parts_of(Instruction slot) {
    std::stable_sort(accesses_.begin(), accesses_.end(),
                     [](const Access& a, const Access& b) { return a.from < b.from; });
    const uint32_t align = f_.reserve_shape(slot).align;
    std::vector<Part> out;
    for (size_t k = 0; k < accesses_.size(); ++k) {
      const Access& a = accesses_[k];
      if (out.empty() || a.from >= out.back().to) {
        // What is known of the whole's alignment holds for a part as far as its offset does.
        uint32_t own = align;
        while (a.from % own) own /= 2;
        out.push_back({a.from, a.to, own, k, 0});
      }
      Part& p = out.back();
      p.to = std::max(p.to, a.to);
      p.align = std::max(p.align, f_.address(a.at).align);
      ++p.count;
    }
    return out;
  }

  void make(Instruction slot, const Part& p) {
    Type pointer = f_.type(f_.result(slot));
    Instruction made = f_.insert_before(slot, {.op = Op::Reserve,
                                               .results = {&pointer, 1},
                                               .detail = f_.add_reserve({p.to - p.from, p.align}),
                                               .position = f_.position(slot)});
    for (size_t k = p.first; k < p.first + p.count; ++k) {
      const Access& access = accesses_[k];
      Address a = f_.address(access.at);
      a.offset = static_cast<int64_t>(access.from - p.from);
      f_.set(f_.operand_slot(access.at, f_.op(access.at) == Op::Store ? 1 : 0), f_.result(made));
      f_.set_address(access.at, a);
    }
  }

  FunctionContext& c_;
  Function& f_;
  std::vector<Access> accesses_;
  std::vector<Instruction> addresses_;  // `at` of the slot, each behind the one that it is made from
};

}  // namespace

void split_slots(FunctionContext& c) { SlotSplitter(c).run(); }

}  // namespace porphyry
