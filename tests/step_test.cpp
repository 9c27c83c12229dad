// The processor step by step: a child runs compiled programs one instruction at a time under our eyes, and
// after each the registers and flags are what the simulator has. Where the program does not say what a bit
// is, neither is asked.
#include <fmt/format.h>
#include <gtest/gtest.h>
#include <sys/ptrace.h>
#include <sys/user.h>
#include <sys/wait.h>
#include <unistd.h>

#include <bit>
#include <cmath>
#include <csignal>
#include <cstring>
#include <map>

#include "porphyry/jit/apart.h"
#include "porphyry/machine/passing.h"
#include "porphyry/sample/sample.h"
#include "porphyry/simulate/run.h"
#include "porphyry/targets/targets.h"
#include "support/measure.h"
#include "support/read.h"
#include "support/targets.h"

namespace porphyry {
namespace {

using namespace machine;

using testing::target;

// What an instruction left, in the book's numbers of registers and flags.
struct Moment {
  uint64_t address = 0;
  std::vector<Bits> registers;
  std::vector<bool> flags;
};

class Program {
 public:
  explicit Program(uint64_t seed)
      : sample_(make_sample(realm_, {.seed = seed, .layout = MemoryLayout{}, .lanes = seed % 2 ? 50u : 0u})) {
    auto jit = Jit::compile(*sample_.module, target());
    EXPECT_TRUE(jit.good()) << render(jit.why());
    jit_ = std::move(*jit);
    for (const CompiledFunction& f : jit_->lowered().functions) {
      auto start = reinterpret_cast<uint64_t>(jit_->address(f.name));
      code_[start] = start + f.bytes.size();
    }
    auto piece = Sample::fresh_piece();
    fresh_.assign(piece.begin(), piece.end());
    auto data = jit_->data(sample_.store);
    fresh_data_.assign(data.begin(), data.end());
    arguments_ = sample_.arguments;
    arguments_.insert(arguments_.begin(), reinterpret_cast<uint64_t>(shared_.bytes().data()));
  }

  const Jit& jit() const { return *jit_; }
  std::string_view main_name() const { return sample_.module->symbol_name(sample_.main); }
  bool is_ours(uint64_t address) const {
    auto after = code_.upper_bound(address);
    return after != code_.begin() && address < std::prev(after)->second;
  }
  std::vector<Type> parameters() const {
    return passing(target().convention, sample_.module->function(sample_.main).signature()).legal.parameters;
  }
  void refresh() {
    std::copy(fresh_.begin(), fresh_.end(), shared_.bytes().begin());
    std::copy(fresh_data_.begin(), fresh_data_.end(), jit_->data(sample_.store).begin());
  }

  // Each instruction of the program itself, until `most` of them have run.
  std::vector<Moment> simulated(size_t most, std::vector<PlainInstruction>& instructions) {
    refresh();
    std::vector<Moment> out;
    auto runner = simulate::Runner::make(*jit_, main_name(), target());
    (*runner)->allow(shared_.bytes());
    simulate::RunOptions options{.step_limit = 4 * most};
    options.see = [&](const simulate::Observation& seen) {
      if (out.size() >= most || !is_ours(seen.address)) return;
      out.push_back({seen.address, seen.state->registers, seen.state->flags});
      instructions.push_back(*seen.instruction);
    };
    (*runner)->run(arguments_, options);
    return out;
  }

  std::vector<Moment> stepped(size_t most) {
    refresh();
    auto caller = Caller::make(*jit_, main_name(), target());
    pid_t child = fork();
    if (child == 0) {
      ptrace(PTRACE_TRACEME, 0, nullptr, nullptr);
      raise(SIGSTOP);
      (*caller)->call(arguments_);
      _exit(0);
    }
    std::vector<Moment> out;
    int status = 0;
    waitpid(child, &status, 0);
    uint64_t before = 0;
    // What lies around the program, bridges and the like, is passed over.
    for (size_t steps = 0; WIFSTOPPED(status) && out.size() < most && steps < 40 * most + 200000; ++steps) {
      user_regs_struct r;
      if (ptrace(PTRACE_GETREGS, child, nullptr, &r) != 0) break;
      if (steps && is_ours(before)) out.push_back(moment(child, before, r));
      before = r.rip;
      if (WSTOPSIG(status) != SIGTRAP && WSTOPSIG(status) != SIGSTOP) break;  // it trapped by itself
      if (ptrace(PTRACE_SINGLESTEP, child, nullptr, nullptr) != 0) break;
      waitpid(child, &status, 0);
    }
    kill(child, SIGKILL);
    if (!WIFEXITED(status)) waitpid(child, &status, 0);
    return out;
  }

 private:
  static Moment moment(pid_t child, uint64_t address, const user_regs_struct& r) {
    Moment m{address, {}, {}};
    for (uint64_t v : {r.rax, r.rcx, r.rdx, r.rbx, r.rsp, r.rbp, r.rsi, r.rdi, r.r8, r.r9, r.r10, r.r11,
                       r.r12, r.r13, r.r14, r.r15})
      m.registers.push_back(v);
    user_fpregs_struct f;
    ptrace(PTRACE_GETFPREGS, child, nullptr, &f);
    for (int k = 0; k < 16; ++k) {
      Bits v;
      std::memcpy(&v, &f.xmm_space[4 * k], sizeof v);
      m.registers.push_back(v);
    }
    for (int bit : {0, 2, 4, 6, 7, 11}) m.flags.push_back(r.eflags >> bit & 1);  // carry … overflow
    return m;
  }

  Realm realm_;
  Sample sample_;
  std::unique_ptr<Jit> jit_;
  SharedMemory shared_{Sample::piece_bytes};
  std::map<uint64_t, uint64_t> code_;  // from, to
  std::vector<uint8_t> fresh_, fresh_data_;
  std::vector<uint64_t> arguments_;
};

// Which bits of registers, flags and the stack the program has not said: they come from wherever the run
// began.
class Unsaid {
 public:
  // At the start of a function that takes these: what arrives in registers is said.
  explicit Unsaid(const std::vector<Type>& parameters)
      : registers_(32, ~Bits(0)), flags_(target().flags.size(), true) {
    registers_[target().convention.stack] = 0;
    size_t whole = 0, floats = 0;
    for (Type t : parameters) {
      bool is_whole = !t.is_float() && !t.has_lanes();
      auto places = is_whole ? target().convention.whole : target().convention.floats;
      size_t& next = is_whole ? whole : floats;
      if (next < places.size()) registers_[places[next++]] = ~mask_of(t.total_bits());
    }
  }
  // Whether the last instruction asked something that the program has not said: where a branch leads is open
  // then.
  bool last_asked() const { return last_asked_; }
  Bits of(size_t r) const { return registers_[r]; }
  bool of_flag(size_t f) const { return flags_[f]; }

  // What the instruction makes of them; `state` is the simulator's after it.
  void step(const PlainInstruction& i, const Moment& state) {
    const Form& form = target().form(i.form);
    bool open = false;
    for (size_t k = 0; k < form.operands.size(); ++k) {
      const FormOperand& o = form.operands[k];
      Bits mask = o.type.exists() ? mask_of(o.type.total_bits()) : ~Bits(0);
      if (o.kind == OperandKind::Register && o.read)
        open |= is_stack(i.operands[k].physical) || (registers_[i.operands[k].physical] & mask) != 0;
      if (o.kind == OperandKind::Memory && o.read) open |= is_from_stack(i.operands[k].address, state);
      if (o.kind == OperandKind::Address) open |= is_open(i.operands[k].address);
    }
    for (unsigned r : form.reads) open |= r != target().convention.stack && registers_[r] != 0;
    for (const MeaningStep& m : form.meaning) open |= m.kind == MeaningKind::Load;  // from the stack
    for (size_t f = 0; f < flags_.size(); ++f) open |= (form.flags_read >> f & 1) && flags_[f];
    last_asked_ = open;
    for (size_t k = 0; k < form.operands.size(); ++k) {
      const FormOperand& o = form.operands[k];
      if (o.kind == OperandKind::Register && o.written)
        write(i.operands[k].physical, o.type.total_bits(), o.clears, open);
    }
    for (const MeaningStep& m : form.meaning) {
      if (m.to.kind == TermKind::Flag) flags_[m.to.index] = m.kind == MeaningKind::Open || open;
      if (m.to.kind == TermKind::Register && m.to.index != target().convention.stack)
        write(m.to.index, m.to.type.total_bits(), false, open);
    }
  }

 private:
  // The two stacks lie elsewhere, so what is computed from where they are is not asked.
  static bool is_stack(int r) { return r == target().convention.stack; }
  bool is_open(const PlainAddress& a) const {
    return is_stack(a.base) || (a.base >= 0 && registers_[static_cast<size_t>(a.base)]) ||
           (a.index >= 0 && registers_[static_cast<size_t>(a.index)]);
  }
  // Frames hold what nobody wrote, and saved registers: what comes from there is not followed.
  bool is_from_stack(const PlainAddress& a, const Moment& state) const {
    if (is_open(a)) return true;
    if (a.base < 0) return false;
    uint64_t stack = static_cast<uint64_t>(state.registers[target().convention.stack]),
             base = static_cast<uint64_t>(state.registers[static_cast<size_t>(a.base)]);
    return base - stack + (1u << 20) < (2u << 20);
  }
  void write(unsigned r, unsigned bits, bool clears, bool open) {
    if (is_stack(static_cast<int>(r))) return;
    const RegisterClass& c = target().classes[target().class_of(r)];
    for (const RegisterView& view : c.views)
      if (view.bits == bits && view.rest == Rest::Clears) clears = true;
    Bits mask = mask_of(bits), above = clears ? 0 : registers_[r] & ~mask;
    registers_[r] = (open ? mask : 0) | above;
  }

  std::vector<Bits> registers_;
  std::vector<bool> flags_;
  bool last_asked_ = false;
};

bool are_both_no_number(Bits a, Bits b) {
  auto f64 = [](Bits v) { return std::bit_cast<double>(static_cast<uint64_t>(v)); };
  auto f32 = [](Bits v) { return std::bit_cast<float>(static_cast<uint32_t>(v)); };
  return (std::isnan(f64(a)) && std::isnan(f64(b))) || (std::isnan(f32(a)) && std::isnan(f32(b)));
}

TEST(Steps, TheProcessorDoesWhatTheSimulatorDoesAtEveryInstruction) {
  constexpr uint64_t programs = testing::part_of(30);
  size_t steps = 0, compared = 0, flags = 0;
  for (uint64_t seed = 1; seed <= programs; ++seed) {
    Program program(seed);
    std::vector<PlainInstruction> instructions;
    constexpr size_t most = 3000;
    std::vector<Moment> should = program.simulated(most, instructions), is = program.stepped(most);
    if (is.empty()) GTEST_SKIP() << "processes are not followed here";
    Unsaid unsaid(program.parameters());
    uint64_t stack = static_cast<uint64_t>(should[0].registers[target().convention.stack]),
             real_stack = static_cast<uint64_t>(is[0].registers[target().convention.stack]);
    bool parted = false;
    for (size_t k = 0; k < std::min(is.size(), should.size()); ++k, ++steps) {
      auto what = [&] {
        return fmt::format("program {}, step {}, {}", seed, k, spell(target(), instructions[k], "there"));
      };
      if (is[k].address != should[k].address && unsaid.last_asked()) {
        parted = true;  // by an address, or by memory that nobody wrote
        break;
      }
      ASSERT_EQ(is[k].address, should[k].address) << what();
      unsaid.step(instructions[k], should[k]);
      for (size_t r = 0; r < 32; ++r) {
        Bits mask = ~unsaid.of(r), a = is[k].registers[r] & mask, b = should[k].registers[r] & mask;
        if (mask == 0) continue;
        ++compared;
        if (a == b || (r >= 16 && are_both_no_number(a, b))) continue;
        // Addresses of the two stacks: as far from where each began.
        auto low = [](Bits v) { return static_cast<uint64_t>(v); };
        if (r < 16 && low(a) - real_stack == low(b) - stack) continue;
        ASSERT_TRUE(false) << what() << "\n"
                           << fmt::format("{} is {:x}:{:x}, not {:x}:{:x}",
                                          target().register_name(static_cast<unsigned>(r), r < 16 ? 64 : 128),
                                          low(a >> 64), low(a), low(b >> 64), low(b));
      }
      for (size_t f = 0; f < is[k].flags.size(); ++f)
        if (!unsaid.of_flag(f)) {
          ++flags;
          ASSERT_EQ(is[k].flags[f], should[k].flags[f]) << what() << "\n" << target().flags[f];
        }
    }
    size_t shorter = std::min(is.size(), should.size()), longer = std::max(is.size(), should.size());
    EXPECT_TRUE(parted || longer - shorter <= 1)
        << "program " << seed;  // an instruction that traps leaves nothing
  }
  EXPECT_GT(steps, programs * 100);
  EXPECT_GT(compared, 3 * steps);
  EXPECT_GT(flags, steps);
  RecordProperty("steps", static_cast<int>(steps));
}

}  // namespace
}  // namespace porphyry
