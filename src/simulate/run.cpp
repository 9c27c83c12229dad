#include "porphyry/simulate/run.h"

#include <fmt/format.h>

#include <cstring>
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

const MemoryRegion* Runner::region(uint64_t address, unsigned bytes) const {
  for (const MemoryRegion& r : allowed_) {
    uint64_t first = reinterpret_cast<uint64_t>(r.memory);
    if (address >= first && address - first < r.bytes && r.bytes - (address - first) >= bytes) return &r;
  }
  return nullptr;
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

RunOutcome Runner::run(std::span<const uint64_t> arguments, const RunOptions& options) {
  std::vector<uint64_t> frame(arguments.begin(), arguments.end());
  frame.resize(std::max(frame.size(), bridge_.argument_words) + bridge_.result_words);
  std::vector<uint8_t> stack(options.stack_bytes);
  size_t before = allowed_.size();
  allow({reinterpret_cast<uint8_t*>(frame.data()), frame.size() * 8});
  allow(stack);

  std::mt19937_64 random(options.seed);
  State state(target_);
  for (Bits& r : state.registers) r = Bits(random()) << 64 | random();
  for (const RegisterClass& c : target_.classes)
    for (unsigned k = 0; k < c.count; ++k) state.registers[c.first + k] &= mask_of(c.bits);
  // The return address that ends the run is one at which nothing lies.
  constexpr uint64_t end = 8;
  uint64_t top = reinterpret_cast<uint64_t>(stack.data() + stack.size()) / 64 * 64 - 8;
  std::memcpy(reinterpret_cast<void*>(top), &end, 8);
  state.registers[target_.convention.stack] = top;
  state.registers[target_.convention.whole[0]] = reinterpret_cast<uint64_t>(frame.data());

  RunOutcome out;
  uint64_t touched = 0;
  MemoryAccess access{[&](uint64_t address, unsigned bytes) -> std::optional<Bits> {
                        touched = address;
                        if (!region(address, bytes)) return std::nullopt;
                        Bits v = 0;
                        std::memcpy(&v, reinterpret_cast<const void*>(address), bytes);
                        return v;
                      },
                      [&](uint64_t address, unsigned bytes, Bits v) {
                        touched = address;
                        const MemoryRegion* r = region(address, bytes);
                        if (!r || !r->writable) return false;
                        std::memcpy(reinterpret_cast<void*>(address), &v, bytes);
                        return true;
                      }};
  auto stop = [&](RunOutcome::End how, std::string why) {
    out.end = how;
    out.message = std::move(why);
  };
  uint64_t at = reinterpret_cast<uint64_t>(bridge_.code->address("enter"));
  while (at != end) {
    out.at = at;
    if (out.steps++ == options.step_limit) {
      stop(RunOutcome::End::TooLong,
           fmt::format("the run took more than {} instructions", options.step_limit));
      break;
    }
    const MemoryRegion* code = region(at, 1);
    if (!code || !code->executable) {
      stop(RunOutcome::End::Fault, "the run leaves for code of the host, which is not simulated");
      break;
    }
    const Decoded& d = decoded(at, *code);
    if (d.size == 0) {
      stop(RunOutcome::End::Fault, "the bytes are no instruction of the book");
      break;
    }
    state.next = at + d.size;
    StepOutcome did = step(target_, d.instruction, state, access);
    for (const std::string& open : did.open_flags)
      for (size_t k = 0; k < target_.flags.size(); ++k)
        if (target_.flags[k] == open) state.flags[k] = random() & 1;
    if (options.see) options.see({at, &d.instruction, &state});
    if (did.end == StepOutcome::End::Trap) {
      stop(RunOutcome::End::Trap, "trap");
      break;
    }
    if (did.end == StepOutcome::End::Fault) {
      stop(RunOutcome::End::Fault,
           fmt::format("an access at {:#x}, which the program may not touch", touched));
      break;
    }
    at = did.end == StepOutcome::End::Gone ? did.to : state.next;
  }
  if (out.end == RunOutcome::End::Result) out.results = bridge_.results(frame.data());
  allowed_.resize(before);
  return out;
}

}  // namespace porphyry::simulate
