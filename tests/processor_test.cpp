// Every instruction of the book, run on random operands: the book's meaning and the processor agree on
// registers, flags, memory and traps.
//
// A stub loads all registers and flags from a state beside it (addressed relative to the instruction pointer,
// so that no register is taken), runs one instruction and stores everything back. Stub bytes are written here
// by hand, so that nothing of our encoder but the instruction itself is involved.
#include <fmt/format.h>
#include <gtest/gtest.h>
#include <setjmp.h>
#include <signal.h>
#include <sys/mman.h>

#include <cstring>

#include "porphyry/machine/emit.h"
#include "porphyry/simulate/step.h"
#include "porphyry/targets/targets.h"
#include "support/forms.h"

namespace porphyry {
namespace {

using namespace machine;

constexpr size_t page = 4096;
constexpr int stack_register = 4;

struct Image {  // what the stub loads and stores
  alignas(16) uint64_t general[16];
  alignas(16) unsigned char lanes[16][16];
  uint64_t flags;
  uint64_t host_stack;
  uint64_t outcome;  // 1: fell through, 2: jumped
};

sigjmp_buf way_out;
void leave(int) { siglongjmp(way_out, 1); }

class Processor {
 public:
  Processor() {
    memory_ = static_cast<uint8_t*>(
        mmap(nullptr, 8 * page, PROT_READ | PROT_WRITE, MAP_PRIVATE | MAP_ANONYMOUS, -1, 0));
    image = reinterpret_cast<Image*>(memory_ + page);
    scratch = memory_ + 4 * page;  // two pages in the middle of which memory operands lie
    struct sigaction action {};
    action.sa_handler = leave;
    action.sa_flags = SA_NODEFER;
    for (int s : {SIGFPE, SIGILL, SIGSEGV}) sigaction(s, &action, nullptr);
  }
  ~Processor() { munmap(memory_, 8 * page); }

  // Where the instruction will stand, and where a jump of it leads.
  uint64_t prepare(std::span<const uint8_t> instruction) {
    mprotect(memory_, page, PROT_READ | PROT_WRITE);
    at_ = memory_;
    for (int r : {3, 5, 12, 13, 14, 15}) push(r);
    store(stack_register, &image->host_stack);
    for (int k = 0; k < 16; ++k) lanes(0x10, k);
    put({0xff, 0x35});  // push flags' word, pop it into the flags
    relative(&image->flags);
    put({0x9d});
    for (int r = 0; r < 16; ++r)
      if (r != stack_register) load(r, &image->general[r]);
    load(stack_register, &image->general[stack_register]);  // no flag changes
    uint64_t start = reinterpret_cast<uint64_t>(at_);
    put(instruction);
    end_of_instruction = reinterpret_cast<uint64_t>(at_);
    store_back(1);
    jump_target = reinterpret_cast<uint64_t>(at_);
    store_back(2);
    mprotect(memory_, page, PROT_READ | PROT_EXEC);
    return start;
  }

  // False when the processor trapped.
  bool run() {
    image->outcome = 0;
    if (sigsetjmp(way_out, 1)) return false;
    reinterpret_cast<void (*)()>(memory_)();
    return true;
  }

  Image* image;
  uint8_t* scratch;
  uint64_t end_of_instruction = 0, jump_target = 0;

 private:
  void put(std::initializer_list<uint8_t> bytes) {
    for (uint8_t b : bytes) *at_++ = b;
  }
  void put(std::span<const uint8_t> bytes) {
    for (uint8_t b : bytes) *at_++ = b;
  }
  void relative(const void* what, int behind = 0) {
    int32_t d = static_cast<int32_t>(static_cast<const uint8_t*>(what) - (at_ + 4 + behind));
    std::memcpy(at_, &d, 4);
    at_ += 4;
  }
  void push(int r) { put({uint8_t(r >= 8 ? 0x41 : 0x40), uint8_t(0x50 + (r & 7))}); }
  void pop(int r) { put({uint8_t(r >= 8 ? 0x41 : 0x40), uint8_t(0x58 + (r & 7))}); }
  void move(uint8_t opcode, int r, const void* what) {
    put({uint8_t(r >= 8 ? 0x4c : 0x48), opcode, uint8_t((r & 7) << 3 | 5)});
    relative(what);
  }
  void load(int r, const void* what) { move(0x8b, r, what); }
  void store(int r, const void* what) { move(0x89, r, what); }
  void lanes(uint8_t opcode, int r) {  // movups
    if (r >= 8) put({0x44});
    put({0x0f, opcode, uint8_t((r & 7) << 3 | 5)});
    relative(image->lanes[r]);
  }
  void store_back(uint64_t outcome) {
    for (int r = 0; r < 16; ++r) store(r, &image->general[r]);
    load(stack_register, &image->host_stack);
    put({0x9c, 0x8f, 0x05});  // push the flags, pop them into memory
    relative(&image->flags);
    for (int k = 0; k < 16; ++k) lanes(0x11, k);
    put({0x48, 0xc7, 0x05});
    relative(&image->outcome, 4);
    put({uint8_t(outcome), 0, 0, 0});
    for (int r : {15, 14, 13, 12, 5, 3}) pop(r);
    put({0xc3});
  }

  uint8_t* memory_;
  uint8_t* at_ = nullptr;
};

// Values that matter more often than chance has them.
uint64_t interesting(std::mt19937_64& random) {
  switch (random() % 8) {
    case 0: return 0;
    case 1: return ~uint64_t(0) >> (random() % 64);
    case 2: return uint64_t(1) << (random() % 64);
    case 3: return random() % 256;
    case 4: return 0 - random() % 256;
    case 5: return random() & 0xffffffff;
    default: return random();
  }
}
uint64_t interesting_lanes(std::mt19937_64& random) {
  double d;
  uint64_t bits;
  static const double doubles[] = {0.0,   -0.0,   1.0, -1.5,    2.5,       0.5,        1e300,
                                   -1e19, 9.3e18, 4e9, -3e-310, 1.0 / 0.0, -1.0 / 0.0, 0.0 / 0.0};
  static const float floats[] = {0.0f,   -0.0f,  1.0f, -1.5f,       2.5f,       3e38f,
                                 -1e19f, 1e-40f, 4e9f, 1.0f / 0.0f, 0.0f / 0.0f};
  switch (random() % 4) {
    case 0:
      d = doubles[random() % std::size(doubles)];
      std::memcpy(&bits, &d, 8);
      return bits;
    case 1: {
      float f[2] = {floats[random() % std::size(floats)], floats[random() % std::size(floats)]};
      std::memcpy(&bits, f, 8);
      return bits;
    }
    case 2:
      d = static_cast<double>(static_cast<int64_t>(random()) >> (random() % 60)) / 8;
      std::memcpy(&bits, &d, 8);
      return bits;
    default: return random();
  }
}

constexpr std::pair<const char*, int> flag_bits[] = {{"carry", 0}, {"parity", 2}, {"adjust", 4},
                                                     {"zero", 6},  {"sign", 7},   {"overflow", 11}};

// Points base and index registers so that a memory operand falls into the scratch bytes.
void aim(const Form& form, PlainInstruction& i, Image& image, const uint8_t* scratch,
         std::mt19937_64& random) {
  for (size_t k = 0; k < form.operands.size(); ++k) {
    if (form.operands[k].kind != OperandKind::Memory) continue;
    PlainAddress& a = i.operands[k].address;
    uint64_t there = reinterpret_cast<uint64_t>(scratch) + page + random() % 256;
    if (form.operands[k].aligned && random() % 8) there &= ~uint64_t(15);
    if (a.base < 0) a.base = a.index, a.index = -1, a.scale = 1;
    if (a.index == a.base) a.index = -1, a.scale = 1;
    uint64_t base = there - static_cast<uint64_t>(static_cast<int64_t>(a.displacement));
    if (a.index >= 0) base -= image.general[a.index] * a.scale;
    image.general[a.base] = base;
  }
}

bool is_nan(uint64_t bits, bool single) {
  return single ? (bits & 0x7fffffff) > 0x7f800000 : (bits & 0x7fffffffffffffff) > 0x7ff0000000000000;
}

TEST(Processor, AgreesWithTheMeaningOfEveryInstruction) {
  const Target& target = *native_target();
  if (!target.runs_here()) GTEST_SKIP() << "not the target's processor";
  Processor processor;
  std::mt19937_64 random(23);
  size_t runs = 0, traps = 0;
  for (FormIndex f = first_real_form; f < target.forms.size(); ++f) {
    const Form& form = target.form(f);
    if (form.needs & ~target.features_here()) continue;
    for (int round = 0; round < 60; ++round) {
      Image& image = *processor.image;
      PlainInstruction i = testing::random_operands(target, f, random);
      for (uint64_t& r : image.general) r = interesting(random);
      for (auto& lane : image.lanes)
        for (int half = 0; half < 2; ++half) {
          uint64_t bits = interesting_lanes(random);
          std::memcpy(lane + 8 * half, &bits, 8);
        }
      for (size_t k = 0; k < 2 * page; k += 16) {
        uint64_t words[] = {random(), interesting_lanes(random)};
        std::memcpy(processor.scratch + k, words, 16);
      }
      image.general[stack_register] = reinterpret_cast<uint64_t>(processor.scratch) + 512;
      if (round % 2 && !form.writes.empty() &&
          !form.reads.empty()) {  // divisions: make quotients that fit more likely
        image.general[2] = round % 4 == 1 ? 0 : image.general[2] & 0xff;
      }
      if (form.name == "leave") image.general[5] = image.general[stack_register];
      aim(form, i, image, processor.scratch, random);
      image.flags = 0x202;
      for (auto [name, bit] : flag_bits) image.flags |= uint64_t(random() % 2) << bit;

      // Jumps and calls lead to the second landing.
      bool is_return = form.name == "ret";
      Encoded e = target.encode(target, i);
      processor.prepare({e.bytes, e.size});
      for (size_t k = 0; k < form.operands.size(); ++k)
        if (form.operands[k].kind == OperandKind::Label || form.operands[k].kind == OperandKind::Symbol)
          i.operands[k].literal = static_cast<int64_t>(processor.jump_target - processor.end_of_instruction);
      if (form.operands.size() && form.operands[0].kind == OperandKind::Label &&
          form.operands[0].literal_bits == 8) {
        // The landing is too far for a short jump: a long one means the same.
        i.form = form.next_in_group;
      }
      e = target.encode(target, i);
      processor.prepare({e.bytes, e.size});
      for (size_t k = 0; k < form.operands.size(); ++k)
        if (form.operands[k].kind == OperandKind::Label || form.operands[k].kind == OperandKind::Symbol)
          i.operands[k].literal = static_cast<int64_t>(processor.jump_target - processor.end_of_instruction);
      e = target.encode(target, i);
      processor.prepare({e.bytes, e.size});
      if (is_return) std::memcpy(processor.scratch + 512, &processor.jump_target, 8);
      if (form.name.ends_with(".through")) {  // goes where its register says
        if (i.operands[0].physical == target.convention.stack) continue;
        image.general[i.operands[0].physical] = processor.jump_target;
      }

      // The book's meaning, on copies.
      simulate::State state(target);
      for (int k = 0; k < 16; ++k) {
        state.registers[static_cast<size_t>(k)] = image.general[k];
        std::memcpy(&state.registers[static_cast<size_t>(16 + k)], image.lanes[k], 16);
      }
      for (size_t k = 0; k < target.flags.size(); ++k)
        for (auto [name, bit] : flag_bits)
          if (target.flags[k] == name) state.flags[k] = image.flags >> bit & 1;
      state.next = processor.end_of_instruction;
      std::vector<uint8_t> bytes(processor.scratch, processor.scratch + 2 * page);
      uint64_t base = reinterpret_cast<uint64_t>(processor.scratch);
      simulate::MemoryAccess access{[&](uint64_t a, unsigned n) -> std::optional<Bits> {
                                      if (a < base || a + n > base + bytes.size()) return std::nullopt;
                                      Bits v = 0;
                                      std::memcpy(&v, &bytes[a - base], n);
                                      return v;
                                    },
                                    [&](uint64_t a, unsigned n, Bits v) {
                                      if (a < base || a + n > base + bytes.size()) return false;
                                      std::memcpy(&bytes[a - base], &v, n);
                                      return true;
                                    }};
      PlainInstruction decoded;
      ASSERT_EQ(target.decode(target, {e.bytes, e.size}, decoded), e.size) << form.name;
      simulate::StepOutcome meant = simulate::step(target, decoded, state, access);
      std::string what =
          std::string(form.name) + ": " + spell(target, i) + ", round " + std::to_string(round);
      ASSERT_NE(meant.end, simulate::StepOutcome::End::Fault) << what;

      bool went = processor.run();
      ++runs;
      ASSERT_EQ(went, meant.end != simulate::StepOutcome::End::Trap) << what;
      if (!went) {
        ++traps;
        continue;
      }
      ASSERT_EQ(image.outcome, meant.end == simulate::StepOutcome::End::Gone ? 2u : 1u) << what;
      if (meant.end == simulate::StepOutcome::End::Gone) {
        ASSERT_EQ(meant.to, processor.jump_target) << what;
      }
      for (int k = 0; k < 16; ++k)
        ASSERT_EQ(image.general[k], static_cast<uint64_t>(state.registers[static_cast<size_t>(k)]))
            << what << ", register " << target.register_name(static_cast<unsigned>(k), 64);
      Type computed;
      for (const FormOperand& o : form.operands)
        if (o.kind == OperandKind::Register && o.written && o.type.is_float()) computed = o.type;
      for (int k = 0; k < 16; ++k) {
        auto& should = state.registers[static_cast<size_t>(16 + k)];
        Bits is;
        std::memcpy(&is, image.lanes[k], 16);
        // Which NaN an operation gives is open.
        for (unsigned lane = 0; computed.exists() && lane < computed.lanes(); ++lane) {
          unsigned shift = lane * computed.bits();
          auto of = [&](Bits w) { return static_cast<uint64_t>(w >> shift & mask_of(computed.bits())); };
          if (is_nan(of(is), computed.bits() == 32) && is_nan(of(should), computed.bits() == 32))
            is &= ~(mask_of(computed.bits()) << shift), should &= ~(mask_of(computed.bits()) << shift);
        }
        ASSERT_TRUE(is == should) << what << ", xmm" << k << " is "
                                  << fmt::format("{:016x}{:016x}, not {:016x}{:016x}", uint64_t(is >> 64),
                                                 uint64_t(is), uint64_t(should >> 64), uint64_t(should));
      }
      for (size_t k = 0; k < target.flags.size(); ++k) {
        if (std::find(meant.open_flags.begin(), meant.open_flags.end(), target.flags[k]) !=
            meant.open_flags.end())
          continue;
        for (auto [name, bit] : flag_bits)
          if (target.flags[k] == name) {
            ASSERT_EQ(image.flags >> bit & 1, state.flags[k]) << what << ", flag " << name;
          }
      }
      ASSERT_EQ(std::memcmp(bytes.data(), processor.scratch, bytes.size()), 0) << what << ", memory";
    }
  }
  EXPECT_GT(runs, 15000u);
  EXPECT_GT(traps, 50u);
}

}  // namespace
}  // namespace porphyry
