// Idea: the evaluator tells of each value as it makes it; two such runs are laid beside each other by the
// names of values, as two texts are by their lines.
#include "porphyry/ask/trace.h"

#include <fmt/format.h>

#include <dtl/dtl.hpp>

#include "porphyry/print/literals.h"
#include "porphyry/print/print.h"

namespace porphyry {
namespace {

std::vector<uint64_t> words_of(const Function& f, const Observation& seen) {
  std::vector<uint64_t> out;
  auto add = [&](Type t, size_t& at) {
    for (unsigned lane = 0; lane < t.lanes(); ++lane, ++at) {
      out.push_back(seen.lanes[at].bits);
      if (t.words_per_lane() == 2) out.push_back(seen.lanes[at].high);
    }
  };
  size_t at = 0;
  if (seen.value.exists())
    add(f.type(seen.value), at);
  else
    for (Value v : f.operands(seen.at)) {
      if (f.type(v).is_pointer())  // where memory lies is not the program's word
        ++at;
      else
        add(f.type(v), at);
    }
  return out;
}

class Tracer {
 public:
  Tracer(const Module& module, const TraceOptions& options, Trace& out)
      : module_(module), options_(options), out_(out) {}

  void operator()(const Observation& seen) {
    const Function& f = module_.function(seen.function);
    std::string value = seen.value.exists() ? value_text(module_, f, seen.value) : "";
    if (!options_.function.empty() && module_.symbol_name(seen.function) != options_.function) return;
    if (!options_.value.empty() && value != options_.value) return;
    if (out_.before < options_.skip) return void(++out_.before);
    if (out_.lines.size() >= options_.most) return void(++out_.behind);
    out_.lines.push_back(line(f, seen, std::move(value)));
  }

 private:
  TraceLine line(const Function& f, const Observation& seen, std::string value) const {
    TraceLine out{.function = std::string(module_.symbol_name(seen.function)), .depth = seen.depth};
    bool is_result = seen.value.exists() && f.kind(seen.value) == ValueKind::Result;
    if (is_result || !seen.value.exists()) {
      out.text = write_text(module_, f, seen.at);
      out.block = block_text(module_, f, f.block(seen.at));
    } else if (f.kind(seen.value) == ValueKind::Parameter) {
      out.text = "parameter " + value;
      out.block = block_text(module_, f, f.entry());
    } else {
      out.text = fmt::format("parameter {} from {}", value, block_text(module_, f, f.block(seen.at)));
      out.block = block_text(module_, f, f.defining_block(seen.value));
    }
    if (seen.at.exists()) out.position = place_text(module_, f.position(seen.at));
    if (seen.value.exists()) out.type = f.type(seen.value);
    out.words = words_of(f, seen);
    out.key = out.function + "." + (value.empty() ? std::string(info(f.op(seen.at)).name) : value);
    out.value = std::move(value);
    return out;
  }

  const Module& module_;
  const TraceOptions& options_;
  Trace& out_;
};

std::vector<std::string> keys_of(const Trace& t) {
  std::vector<std::string> out;
  for (const TraceLine& l : t.lines) out.push_back(l.key);
  return out;
}

std::string bits_text(Bits v, unsigned width) {
  std::string out;
  for (unsigned k = width; k-- > 0;) {
    out += (v >> k) & 1 ? '1' : '0';
    if (k % 8 == 0 && k > 0) out += '_';
  }
  return out;
}

std::string float_parts(Bits v, Type t) {
  const unsigned fraction_bits = t.bits() == 32 ? 23 : 52, exponent_bits = t.bits() - 1 - fraction_bits;
  const auto fraction = static_cast<uint64_t>(v & mask_of(fraction_bits));
  const auto exponent = static_cast<int>((v >> fraction_bits) & mask_of(exponent_bits));
  const int most = (1 << exponent_bits) - 1, bias = most >> 1;
  const char* sign = (v >> (t.bits() - 1)) & 1 ? "-" : "+";
  if (exponent == most && fraction == 0) return fmt::format("{}infinity", sign);
  if (exponent == most) return fmt::format("{}NaN with payload {:#x}", sign, fraction);
  if (exponent == 0 && fraction == 0) return fmt::format("{}0", sign);
  const double scaled = static_cast<double>(fraction) / static_cast<double>(uint64_t(1) << fraction_bits);
  return exponent == 0 ? fmt::format("{}{} * 2^{} (subnormal)", sign, scaled, 1 - bias)
                       : fmt::format("{}{} * 2^{}", sign, 1 + scaled, exponent - bias);
}

NumberForms forms_of(Bits v, Type t) {
  NumberForms out;
  const std::string written = text::literal_text(v, t);
  out.decimal = written;
  if (t.is_integer()) {
    const std::string positive = v >> 64 ? "" : fmt::format("{}", static_cast<uint64_t>(v));
    if (!positive.empty() && positive != written) out.decimal = positive + " (" + written + ")";
  }
  const unsigned digits = (t.bits() + 3) / 4;
  out.hex = v >> 64 ? fmt::format("{:#x}{:016x}", static_cast<uint64_t>(v >> 64), static_cast<uint64_t>(v))
                    : fmt::format("0x{:0{}x}", static_cast<uint64_t>(v), digits);
  out.bits = bits_text(v, t.bits());
  if (t.is_float()) out.parts = float_parts(v, t);
  return out;
}

}  // namespace

std::vector<NumberForms> number_forms(Type type, std::span<const uint64_t> words) {
  std::vector<NumberForms> out;
  const unsigned step = type.exists() ? type.words_per_lane() : 1;
  for (unsigned lane = 0; type.exists() && lane < type.lanes() && (lane + 1) * step <= words.size(); ++lane)
    out.push_back(
        forms_of(Bits(step == 2 ? words[lane * 2 + 1] : 0) << 64 | words[lane * step], type.element()));
  return out;
}

Result<Trace> trace(const Module& module, const WrittenCall& call, const TraceOptions& options) {
  if (auto fits = prepare_call(module, call.function, call.words); !fits) return fits.why();
  Trace out;
  RunLimits limits = options.limits;
  limits.follow = Tracer(module, options, out);
  out.seen = evaluate(module, call, limits);
  return out;
}

Result<TraceComparison> trace_against(const Module& left, const Module& right, const WrittenCall& call,
                                      const TraceOptions& options) {
  auto one = trace(left, call, options), two = trace(right, call, options);
  if (!one) return one.why();
  if (!two) return two.why();
  return compare_traces(std::move(*one), std::move(*two));
}

TraceComparison compare_traces(Trace left, Trace right) {
  TraceComparison out{std::move(left), std::move(right), {}, TracePair::none, {}};
  out.deviation = deviation(out.left.seen, out.right.seen);
  const auto left_keys = keys_of(out.left), right_keys = keys_of(out.right);
  dtl::Diff<std::string> compared(left_keys, right_keys);
  compared.onHuge();
  compared.compose();
  size_t l = 0, r = 0;
  for (const auto& [key, info] : compared.getSes().getSequence()) {
    TracePair pair;
    if (info.type != dtl::SES_ADD) pair.left = l++;
    if (info.type != dtl::SES_DELETE) pair.right = r++;
    if (info.type == dtl::SES_COMMON) {
      const TraceLine &a = out.left.lines[pair.left], &b = out.right.lines[pair.right];
      pair.differs = a.type != b.type || (!a.type.is_pointer() && a.words != b.words);
      if (pair.differs && out.first_difference == TracePair::none) out.first_difference = out.pairs.size();
    }
    out.pairs.push_back(pair);
  }
  return out;
}

}  // namespace porphyry
