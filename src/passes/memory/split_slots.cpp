// split-slots: a stack slot whose parts are only loaded, stored, copied and filled becomes one slot for each
// part, so that parts can become values. Parts are the byte ranges of accesses; those that overlap are one
// part. Short copies and fills are taken apart first, into a load and a store for each part. O(uses log uses)
// a slot.
#include <fmt/format.h>

#include <algorithm>

#include "porphyry/ir/edit.h"
#include "porphyry/ir/pen.h"
#include "porphyry/ir/words.h"
#include "porphyry/optimize/pass.h"

namespace porphyry {
namespace {

class SlotSplitter {
 public:
  explicit SlotSplitter(FunctionContext& c) : c_(c), f_(c.function), pen_(c.module, c.function) {}

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
  // What a copy or fill touches of the slot.
  struct Span {
    Instruction at;
    uint64_t from, to;
    bool is_read;
  };
  static constexpr uint64_t most_bytes = 128;  // of a copy or fill that is taken apart

  void one(Instruction slot) {
    accesses_.clear(), addresses_.clear(), spans_.clear();
    const uint64_t bytes = f_.reserve_shape(slot).bytes;
    auto why = gather(f_.result(slot), 0, bytes);
    std::vector<Piece> pieces;
    if (!why && !spans_.empty()) why = pieces_of_spans(pieces);
    if (why) {
      // One access that covers the slot is for promote; only what is used in parts is told of.
      if (accesses_.size() > 1)
        c_.declined(f_.position(slot), name(slot), "the slot stays whole", *why,
                    "loads, stores, short copies and fills of its parts alone");
      return;
    }
    for (const Span& s : spans_) take_apart(s, f_.result(slot), pieces);
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
      if (op == Op::Copy || op == Op::Fill) {
        if (auto why = gather_span(use, offset, bytes)) return why;
        continue;
      }
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

  std::optional<std::string> gather_span(const Function::Use& use, uint64_t offset, uint64_t bytes) {
    Instruction i = use.user;
    bool copies = f_.op(i) == Op::Copy;
    size_t place = use.slot.index - f_.operand_slot(i, 0).index;
    size_t source = copies ? f_.copy_shape(i).to.operand_count() : ~size_t(0);
    if (place != source && place != (copies ? 0u : 1u)) return "its address is used as an index, or written";
    const Address& to = copies ? f_.copy_shape(i).to : f_.address(i);
    const Address& from = copies ? f_.copy_shape(i).from : to;
    const Address& own = place == source ? from : to;
    for (const Address* a : {&to, &from})
      if (a->is_volatile || a->guarded) return "a copy or fill of it is volatile or guarded";
    Value count = f_.operand(i, f_.operand_count(i) - 1);
    if (own.indexed || !f_.is_constant(count)) return "a copy or fill of it has an index, or any length";
    if (!copies && !f_.is_constant(f_.operand(i, 0))) return "it is filled with what is not constant";
    uint64_t begin = offset + static_cast<uint64_t>(own.offset), length = f_.constant_bits(count);
    if (length > most_bytes) return fmt::format("a copy or fill of it has {} bytes", length);
    if (begin > bytes || length > bytes - begin) return "an access reaches past its end";
    for (const Span& s : spans_)
      if (s.at == i) return "it is copied to itself";
    spans_.push_back({i, begin, begin + length, place == source});
    return std::nullopt;
  }

  // Bytes of the slot that move as one value.
  struct Piece {
    uint64_t from, to;
    Type type;
  };
  // Each part that is accessed is a piece; what else is copied is cut into words. Why copies and fills cannot
  // be made of pieces; nothing when they can.
  std::optional<std::string> pieces_of_spans(std::vector<Piece>& out) {
    std::stable_sort(accesses_.begin(), accesses_.end(),
                     [](const Access& a, const Access& b) { return a.from < b.from; });
    for (const Access& a : accesses_) {
      Type t = f_.op(a.at) == Op::Store ? f_.type(f_.operand(a.at, 0)) : f_.type(f_.result(a.at));
      // A pattern of bytes may be no value of other types.
      if (t.is_bool() || t.bits() % 8) t = {};
      if (out.empty() || a.from >= out.back().to) {
        out.push_back({a.from, a.to, t});
        continue;
      }
      Piece& p = out.back();
      if (a.from != p.from || a.to != p.to || t != p.type) p.type = {};
      p.to = std::max(p.to, a.to);
    }
    for (Piece& p : out)
      if (!p.type.exists()) {
        if (uint64_t n = p.to - p.from; n > 16 || (n & (n - 1))) return "accesses to it overlap in part";
        p.type = Type::integer(static_cast<unsigned>(8 * (p.to - p.from)));
      }
    for (const Span& s : spans_)
      for (uint64_t at = s.from; at < s.to;) {
        auto next = std::find_if(out.begin(), out.end(), [&](const Piece& p) { return p.to > at; });
        if (next != out.end() && next->from <= at) {
          if (next->from < at || next->to > s.to) return "a copy or fill of it ends inside of a part";
          at = next->to;
          continue;
        }
        uint64_t end = std::min(s.to, next == out.end() ? s.to : next->from), size = 8;
        while (at % size || size > end - at) size /= 2;
        out.insert(next, {at, at + size, Type::integer(static_cast<unsigned>(8 * size))});
        at += size;
      }
    return std::nullopt;
  }

  // The pieces of a span as loads and stores; all loads first.
  void take_apart(const Span& s, Value slot, std::span<const Piece> pieces) {
    pen_.before(s.at).from(f_.position(s.at));
    bool copies = f_.op(s.at) == Op::Copy;
    std::vector<std::pair<Value, const Piece*>> values;
    for (const Piece& p : pieces) {
      if (p.from < s.from || p.to > s.to) continue;
      Value v;
      if (!copies)
        v = filled(p.type, static_cast<uint8_t>(f_.constant_bits(f_.operand(s.at, 0))));
      else if (s.is_read)
        v = of_slot(pen_.load(p.type, slot, {.offset = static_cast<int64_t>(p.from)}), p);
      else
        v = pen_.load(p.type, other_side(s, p), other_operands(s));
      values.emplace_back(v, &p);
    }
    for (auto [v, p] : values) {
      if (s.is_read) {
        pen_.store(v, other_side(s, *p), other_operands(s));
      } else {
        pen_.store(v, slot, {.offset = static_cast<int64_t>(p->from)});
        accesses_.push_back({f_.previous(s.at), p->from, p->to});
      }
    }
    f_.erase(s.at);
  }
  Value of_slot(Value loaded, const Piece& p) {
    accesses_.push_back({f_.definition(loaded), p.from, p.to});
    return loaded;
  }
  Value filled(Type type, uint8_t byte) {
    if (type.is_pointer()) return pen_.convert(Op::Bits, type, filled(Type::integer(type.bits()), byte));
    std::vector<Bits> lanes(type.lanes());
    for (unsigned k = 0; k < type.bits(); k += 8) lanes[0] |= Bits(byte) << k;
    lanes.assign(lanes.size(), lanes[0] & mask_of(type.bits()));
    return constant_from(f_, type, lanes);
  }
  Address other_side(const Span& s, const Piece& p) const {
    const CopyShape& shape = f_.copy_shape(s.at);
    Address a = s.is_read ? shape.to : shape.from;
    // What is said of a whole need not hold for its parts.
    a.kind = {};
    while ((p.from - s.from) % a.align) a.align /= 2;
    a.offset += static_cast<int64_t>(p.from - s.from);
    return a;
  }
  std::vector<Value> other_operands(const Span& s) const {
    const CopyShape& shape = f_.copy_shape(s.at);
    const Address& a = s.is_read ? shape.to : shape.from;
    std::vector<Value> out;
    for (size_t k = 0, first = s.is_read ? 0 : shape.to.operand_count(); k < a.operand_count(); ++k)
      out.push_back(f_.operand(s.at, first + k));
    return out;
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
  Pen pen_;
  std::vector<Access> accesses_;
  std::vector<Span> spans_;
  std::vector<Instruction> addresses_;  // `at` of the slot, each behind the one that it is made from
};

}  // namespace

void split_slots(FunctionContext& c) { SlotSplitter(c).run(); }

}  // namespace porphyry
