// Jumps, and the paddings before loops and jumps, of a function while it is emitted: all that has no size of
// its own until all others have theirs.
#pragma once

#include <memory_resource>
#include <vector>

#include "porphyry/machine/emit.h"

namespace porphyry::machine {

// What a padding stands before; a jump's comparison is one with it.
enum class Pad : uint8_t { None, Loop, Jump };

struct Jump {  // or padding
  FormIndex form;
  Role role;
  Instruction origin;
  uint32_t row;       // of the code
  uint32_t block;     // where to; padding: which begins behind it
  uint32_t line = 0;  // which it became
  uint8_t short_size = 0;
  uint32_t growth = 0;  // bytes that it and those before it have grown
  uint32_t back = 0;    // padding: the last jump back to the block, or 0
  bool may_turn = false, turned = false;
  Pad pad = Pad::None;
  bool is_padding() const { return pad != Pad::None; }
};

struct BlockStart {
  uint32_t offset, next_jump;
  bool is_target;  // something jumps to it
  uint8_t align = 1;
};

// Blocks begin, and jumps and paddings come, in the order of the code, whose bytes and lines `out` gets.
class Relaxer {
 public:
  Relaxer(const Code& f, const Target& target, CompiledFunction& out);

  void begin_block();
  void pad(Pad before, uint32_t block);
  // A jump as it is written first.
  PlainInstruction short_form(const Jump& j) const { return jump_at(j.form, j.row, 0); }
  // The last line of `out` is this jump in its short form.
  void add(const Jump& j);

  // When all is written: gives jumps and paddings their sizes, and bytes, lines and fixups their places. A
  // round is O(jumps + paddings), and there are few; then O(bytes).
  void run();

  // Places of blocks, final once `run` is done.
  BlockStart& start(uint32_t block) { return starts_[block]; }
  // Whether a line may have come to hold nothing.
  bool leaves_empty_lines() const;

 private:
  uint32_t here() const { return static_cast<uint32_t>(out_.bytes.size()); }
  void find_jumps_back();
  uint32_t padding_at(size_t k, uint32_t at);
  uint32_t to_next_line(uint32_t at, uint32_t bytes) const;
  uint32_t jump_behind(size_t k) const;
  unsigned paddings_from(size_t loop, uint32_t start) const;
  PlainInstruction jump_at(FormIndex form, uint32_t row, int64_t distance) const;
  bool turns(const Form& form) const;
  FormIndex furthest_jump() const;
  uint8_t jump_size(FormIndex form, uint32_t row) const;
  PlainInstruction plain_jump(int64_t distance) const;
  uint32_t growth_before(uint32_t jump) const { return jump ? jumps_[jump - 1].growth : 0; }
  uint32_t final_start(uint32_t block) const;
  uint32_t size_of(const Jump& j) const;
  int64_t distance(size_t k) const;
  void relax();
  void move_apart();
  void put_bytes(uint32_t at, const PlainInstruction& p);
  void write_jump(const Jump& j, int64_t over);
  void write_padding(size_t k);

  const Code& f_;
  const Target& target_;
  const uint32_t least_, line_;  // see CodeAlignment
  CompiledFunction& out_;
  std::pmr::vector<BlockStart> starts_;  // by block
  std::pmr::vector<Jump> jumps_;         // in order
};

}  // namespace porphyry::machine
