// Call frames. One common entry says how a function begins; each function's own entry says, from instruction
// to instruction, how far the caller's frame is and where kept registers lie.
#include "debug_parts.h"
#include "porphyry/object/debug_steps.h"
#include "sink.h"

namespace porphyry::object {

using namespace machine;

namespace {

// Opcodes, DWARF 5, section 7.24.
enum : uint8_t { advance_loc = 0x40, offset = 0x80, restore = 0xc0 };
enum : uint8_t { advance_loc1 = 2, advance_loc2 = 3, advance_loc4 = 4 };
enum : uint8_t { remember_state = 10, restore_state = 11, def_cfa = 12, def_cfa_offset = 14 };

constexpr int64_t data_align = -8;
constexpr uint8_t relative_to_here = 0x1b;  // pointers: four bytes, signed, from their own place

class FrameWalk {
 public:
  FrameWalk(const CompiledFunction& f, const Target& target)
      : f_(f), target_(target), distance_(target.frame.return_bytes) {}

  std::vector<FrameStep> run() {
    bool leaving = false;
    find_body();
    size_t block = 0;
    for (size_t k = 0; k < f_.lines.size(); ++k) {
      const EmittedLine& l = f_.lines[k];
      for (; block < f_.blocks.size() && f_.blocks[block].offset <= l.offset; ++block)
        begin(f_.blocks[block].framed, l.offset);
      bool frame = l.role == Role::Frame;
      if (!frame && leaving) {
        // The jump or return that ends the way out; what stands behind has the body's frame.
        leaving = false;
        if (k + 1 < f_.lines.size()) {
          out_.push_back({FrameStep::Kind::Recall, l.offset + l.size});
          distance_ = body_;
        }
        continue;
      }
      if (!frame) continue;
      const FrameEffect effect = target_.frame.effect(target_, instruction_at(target_, f_, l));
      if (effect.grows == 0) continue;  // touches the stack
      if (effect.grows < 0 && !leaving) {
        leaving = true;
        out_.push_back({FrameStep::Kind::Remember, l.offset});
      }
      step(l.offset + l.size, effect);
    }
    return std::move(out_);
  }

 private:
  void step(uint32_t behind, const FrameEffect& effect) {
    auto number = [&](int16_t physical) {
      return target_.object.unwind_numbers[static_cast<size_t>(physical)];
    };
    distance_ += static_cast<uint64_t>(effect.grows);
    out_.push_back({FrameStep::Kind::Distance, behind, distance_});
    if (effect.saves >= 0) out_.push_back({FrameStep::Kind::Saved, behind, distance_, number(effect.saves)});
    if (effect.restores >= 0) out_.push_back({FrameStep::Kind::Restored, behind, 0, number(effect.restores)});
  }

  // What stands once the frame is set up, wherever that is.
  void find_body() {
    for (const EmittedLine& l : f_.lines) {
      if (l.role != Role::Frame) continue;
      const FrameEffect effect = target_.frame.effect(target_, instruction_at(target_, f_, l));
      if (effect.grows < 0) break;
      body_ += static_cast<uint64_t>(effect.grows);
      if (effect.saves >= 0) saved_.emplace_back(effect.saves, body_);
    }
  }
  // A block that comes with the frame behind one without it, or the other way round.
  void begin(bool framed, uint32_t offset) {
    const uint64_t distance = framed ? body_ : target_.frame.return_bytes;
    if (offset == 0 || distance == distance_) return;
    distance_ = distance;
    out_.push_back({FrameStep::Kind::Distance, offset, distance_});
    for (auto [reg, at] : saved_) {
      const auto kind = framed ? FrameStep::Kind::Saved : FrameStep::Kind::Restored;
      out_.push_back(
          {kind, offset, framed ? at : 0, target_.object.unwind_numbers[static_cast<size_t>(reg)]});
    }
  }

  const CompiledFunction& f_;
  const Target& target_;
  std::vector<FrameStep> out_;
  std::vector<std::pair<int16_t, uint64_t>> saved_;  // and how far below the caller's frame
  uint64_t body_ = target_.frame.return_bytes;       // the distance while the frame stands
  uint64_t distance_;                                // from the stack pointer to the caller's frame
};

void write_steps(const std::vector<FrameStep>& steps, Sink sink) {
  uint32_t at = 0;
  for (const FrameStep& step : steps) {
    uint32_t by = step.offset - at;
    at = step.offset;
    if (by >= 0x10000)
      sink.u8(advance_loc4), sink.u32(by);
    else if (by >= 0x100)
      sink.u8(advance_loc2), sink.u16(by);
    else if (by >= 0x40)
      sink.u8(advance_loc1), sink.u8(by);
    else if (by > 0)
      sink.u8(advance_loc | by);
    switch (step.kind) {
      case FrameStep::Kind::Distance: sink.u8(def_cfa_offset), sink.uleb(step.distance); break;
      case FrameStep::Kind::Saved:
        sink.u8(offset | step.number), sink.uleb(step.distance / static_cast<uint64_t>(-data_align));
        break;
      case FrameStep::Kind::Restored: sink.u8(restore | step.number); break;
      case FrameStep::Kind::Remember: sink.u8(remember_state); break;
      case FrameStep::Kind::Recall: sink.u8(restore_state); break;
    }
  }
}

// Writes the length of what stands behind it once that is known.
template <class Body>
void entry(Sink& sink, size_t align, Body body) {
  size_t length_at = sink.size();
  sink.u32(0);
  body();
  sink.align(align);
  sink.patch32(length_at, sink.size() - length_at - 4);
}

}  // namespace

void add_call_frames(ObjectFile& out, const Target& target, const std::vector<PlacedFunction>& functions) {
  ObjectFile::Section s{.name = ".eh_frame", .align = 8};
  Sink sink(s.bytes);
  const ObjectFacts& facts = target.object;
  entry(sink, 4, [&] {
    sink.u32(0);  // a common entry
    sink.u8(1);   // version
    sink.text("zR");
    sink.uleb(1);
    sink.sleb(data_align);
    sink.uleb(facts.return_number);
    sink.uleb(1);
    sink.u8(relative_to_here);
    sink.u8(def_cfa), sink.uleb(facts.unwind_numbers[target.convention.stack]), sink.uleb(8);
    sink.u8(offset | facts.return_number), sink.uleb(1);
  });
  for (const PlacedFunction& f : functions)
    entry(sink, &f == &functions.back() ? 8 : 4, [&] {
      sink.u32(sink.size());  // back to the common entry, which stands first
      s.relocations.push_back(
          {sink.size(), facts.relative_32, f.section_symbol, static_cast<int64_t>(f.offset)});
      sink.u32(0);
      sink.u32(f.code->bytes.size());
      sink.uleb(0);
      write_steps(frame_steps(*f.code, target), sink);
    });
  out.sections.push_back(std::move(s));
}

}  // namespace porphyry::object

namespace porphyry {

std::vector<FrameStep> frame_steps(const machine::CompiledFunction& f, const machine::Target& target) {
  return object::FrameWalk(f, target).run();
}

}  // namespace porphyry
