#include "porphyry/simulate/run.h"
#include "memory.h"
#include "porphyry/base/rounding.h"

#include <fmt/format.h>

#include <random>

namespace porphyry::simulate {

using namespace machine;

Runner::Runner(const Jit& jit, const Target& target, Bridge bridge)
    : target_(target), bridge_(std::move(bridge)) {
  allowed_ = jit.regions();
  for (const MemoryRegion& r : bridge_.code->regions()) allowed_.push_back(r);
}

Result<std::unique_ptr<Runner>> Runner::make(const Jit& jit, std::string_view function,
                                             const Target& target) {
  auto bridge = make_bridge(jit, function, target);
  if (!bridge) return bridge.why();
  return std::unique_ptr<Runner>(new Runner(jit, target, std::move(*bridge)));
}

const Runner::Decoded& Runner::decoded(uint64_t address, const MemoryRegion& code) {
  auto [at, is_new] = decoded_.try_emplace(address);
  if (is_new) {
    const uint8_t* bytes = reinterpret_cast<const uint8_t*>(address);
    size_t left = static_cast<size_t>(code.memory + code.bytes - bytes);
    at->second.size = target_.decode(target_, {bytes, std::min<size_t>(left, 16)}, at->second.instruction);
  }
  return at->second;
}

namespace {

// The return address that ends a run is one at which nothing lies.
constexpr uint64_t end_of_run = 8;

// Registers hold anything when a function is called, but for the stack pointer, on top of whose memory the
// return address lies, and the first argument of the bridge: where the words are.
State state_at_entry(const Target& target, std::span<uint8_t> stack, uint64_t words,
                     std::mt19937_64& random) {
  State state(target);
  for (Bits& r : state.registers) r = Bits(random()) << 64 | random();
  for (const RegisterClass& c : target.classes)
    for (unsigned k = 0; k < c.count; ++k) state.registers[c.first + k] &= mask_of(c.bits);
  const Convention& c = target.convention;
  uint64_t top = round_down<uint64_t>(reinterpret_cast<uint64_t>(stack.data() + stack.size()), 64);
  top -= target.frame.return_bytes;
  if (c.return_address >= 0)
    state.registers[static_cast<size_t>(c.return_address)] = end_of_run;
  else
    store_number(top, target.frame.return_bytes, target.layout.order, end_of_run);
  state.registers[c.stack] = top;
  state.registers[c.whole[0]] = words;
  return state;
}

// What the processor leaves open is anything.
void settle_open_flags(const Target& target, const StepOutcome& did, State& state, std::mt19937_64& random) {
  for (const std::string& open : did.open_flags)
    for (size_t k = 0; k < target.flags.size(); ++k)
      if (target.flags[k] == open) state.flags[k] = random() & 1;
}

}  // namespace

// The instruction at an address, or why there is none.
Result<const Runner::Decoded*> Runner::instruction_at(uint64_t at) {
  const MemoryRegion* code = region_of(allowed_, at, 1, false);
  if (!code || !code->executable)
    return complaint("the run leaves for code of the host, which is not simulated");
  const Decoded& d = decoded(at, *code);
  if (d.size == 0) return complaint("the bytes are no instruction of the book");
  return &d;
}

RunOutcome Runner::run(std::span<const uint64_t> arguments, const RunOptions& options) {
  ReachableMemory frame(8 * (bridge_.argument_words + bridge_.result_words), target_),
      stack(options.stack_bytes, target_);
  auto* words = reinterpret_cast<uint64_t*>(frame.bytes().data());
  bridge_.put_arguments(arguments, words);
  CheckedMemory memory(allowed_, target_.layout.order);
  memory.allow(frame.bytes());
  memory.allow(stack.bytes());
  std::mt19937_64 random(options.seed);
  State state = state_at_entry(target_, stack.bytes(), frame.address(), random);

  RunOutcome out;
  auto stop = [&](RunOutcome::End how, std::string why) {
    out.end = how;
    out.message = std::move(why);
  };
  uint64_t at = reinterpret_cast<uint64_t>(bridge_.code->address("enter"));
  while (at != end_of_run && out.end == RunOutcome::End::Result) {
    out.at = at;
    if (out.steps++ == options.step_limit) {
      stop(RunOutcome::End::TooLong,
           fmt::format("the run took more than {} instructions", options.step_limit));
      break;
    }
    auto d = instruction_at(at);
    if (!d) {
      stop(RunOutcome::End::Fault, d.why()[0].message);
      break;
    }
    state.next = at + (*d)->size;
    StepOutcome did = step(target_, (*d)->instruction, state, memory.access());
    settle_open_flags(target_, did, state, random);
    if (options.see) options.see({at, &(*d)->instruction, &state});
    if (did.end == StepOutcome::End::Trap) stop(RunOutcome::End::Trap, "the instruction traps");
    if (did.end == StepOutcome::End::Fault)
      stop(RunOutcome::End::Fault,
           fmt::format("an access at {:#x}, which the program may not touch", memory.touched()));
    at = did.end == StepOutcome::End::Gone ? did.to : state.next;
  }
  if (out.end == RunOutcome::End::Result) out.results = bridge_.results(words);
  return out;
}

}  // namespace porphyry::simulate
