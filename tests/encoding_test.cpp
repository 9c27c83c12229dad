// Every form of each book decodes back to the same instruction; the desktop's bytes are the system
// assembler's.
#include <fmt/format.h>
#include <gtest/gtest.h>

#include "porphyry/machine/emit.h"
#include "porphyry/targets/targets.h"
#include "support/forms.h"
#include "support/process.h"
#include "support/targets.h"

namespace porphyry {
namespace {

using namespace machine;

bool equal(const PlainInstruction& a, const PlainInstruction& b, const Form& form) {
  if (a.form != b.form) return false;
  for (size_t k = 0; k < form.operands.size(); ++k) {
    const PlainOperand &x = a.operands[k], &y = b.operands[k];
    const PlainAddress &p = x.address, &q = y.address;
    bool scale = p.index < 0 || p.scale == q.scale;
    if (x.physical != y.physical || x.literal != y.literal || p.base != q.base || p.index != q.index ||
        !scale || p.displacement != q.displacement || p.relative != q.relative)
      return false;
  }
  return true;
}

// Whether another form of the group is shorter for these operands: then our own emitter takes that one.
bool is_preferred(const Target& target, const PlainInstruction& i) {
  size_t size = target.encode(target, i).size;
  for (FormIndex f = target.form(i.form).first_in_group; f; f = target.form(f).next_in_group) {
    if (f == i.form) continue;
    const Form& form = target.form(f);
    PlainInstruction other = i;
    other.form = f;
    bool fits = true;
    for (size_t k = 0; k < form.operands.size(); ++k) {
      const FormOperand& o = form.operands[k];
      int64_t half = o.literal_bits && o.literal_bits < 64 ? int64_t(1) << (o.literal_bits - 1) : 0;
      if (o.kind == OperandKind::Literal && o.only >= 0)
        fits &= i.operands[k].literal == o.only;
      else if (o.kind == OperandKind::Literal && half)
        fits &= i.operands[k].literal >= -half && i.operands[k].literal < half;
      if (o.kind == OperandKind::Register && o.only >= 0) fits &= i.operands[k].physical == o.only;
    }
    if (fits && target.encode(target, other).size < size) return false;
    if (fits && target.encode(target, other).size == size && f < i.form) return false;
  }
  return true;
}

TEST(Encoding, EveryFormEqualsTheSystemAssembler) {
  const Target& target = *native_target();
  std::mt19937_64 random(7);
  std::string text = "    .intel_syntax noprefix\n    .text\n";
  struct Made {
    std::vector<uint8_t> bytes;
    std::string text;
  };
  std::vector<Made> all;
  for (FormIndex f = first_real_form; f < target.forms.size(); ++f) {
    const Form& form = target.form(f);
    for (int round = 0; round < 24; ++round) {
      PlainInstruction i = testing::random_operands(target, f, random);
      if (!is_preferred(target, i)) continue;
      Encoded e = target.encode(target, i);
      if (form.is_jump || (form.operands.size() == 1 && form.operands[0].kind == OperandKind::Symbol))
        continue;  // see Jumps
      all.push_back({{e.bytes, e.bytes + e.size}, spell(target, i)});
      text += "    " + all.back().text + "\n";
    }
  }
  testing::TemporaryFolder folder;
  std::string source = folder.write("all.s", text);
  auto assembled = testing::run_command(
      fmt::format("as -o {0}.o {0} 2>&1 && objcopy -O binary -j .text {0}.o {0}.bin 2>&1", source));
  ASSERT_EQ(assembled.status, 0) << assembled.out;
  std::string bytes = testing::contents(source + ".bin");
  size_t at = 0;
  for (const Made& m : all) {
    std::string theirs = bytes.substr(at, m.bytes.size()), ours(m.bytes.begin(), m.bytes.end());
    if (ours != theirs) {
      std::string a, b;
      for (unsigned char c : ours) a += fmt::format("{:02x} ", c);
      for (unsigned char c : theirs) b += fmt::format("{:02x} ", c);
      FAIL() << m.text << "\nours   " << a << "\ntheirs " << b;
    }
    at += m.bytes.size();
  }
  EXPECT_EQ(at, bytes.size());
  EXPECT_GT(all.size(), 5000u);
}

class Encodings : public ::testing::TestWithParam<std::string> {};

TEST_P(Encodings, DecodeToWhatTheyWereMadeOf) {
  const Target& target = testing::target(GetParam());
  std::mt19937_64 random(7);
  for (FormIndex f = first_real_form; f < target.forms.size(); ++f)
    for (int round = 0; round < 24; ++round) {
      PlainInstruction i = testing::random_operands(target, f, random), back;
      Encoded e = target.encode(target, i);
      ASSERT_EQ(target.decode(target, {e.bytes, e.size}, back), e.size) << target.form(f).name;
      ASSERT_EQ(target.length(target, {e.bytes, e.size}), e.size) << target.form(f).name;
      // Two forms may stand for one text: a special case of another.
      ASSERT_TRUE(equal(i, back, target.form(f)) || spell(target, i) == spell(target, back))
          << target.form(f).name << " came back as " << target.form(back.form).name;
    }
}

TEST_P(Encodings, OfNoFormAreNotDecoded) {
  const Target& target = testing::target(GetParam());
  std::mt19937_64 random(11);
  PlainInstruction i;
  for (int k = 0; k < 200000; ++k) {
    uint8_t bytes[16];
    size_t size = random() % 16;
    for (uint8_t& b : bytes) b = static_cast<uint8_t>(random());
    uint8_t used = target.decode(target, {bytes, size}, i);
    ASSERT_LE(used, size);
    if (!used) continue;
    // What was decoded encodes to something that decodes to the same.
    Encoded e = target.encode(target, i);
    PlainInstruction again;
    ASSERT_EQ(target.decode(target, {e.bytes, e.size}, again), e.size);
    ASSERT_TRUE(equal(i, again, target.form(i.form)) || spell(target, i) == spell(target, again))
        << target.form(i.form).name;
  }
}

INSTANTIATE_TEST_SUITE_P(All, Encodings, ::testing::ValuesIn(testing::target_names()), testing::as_test_name);

}  // namespace
}  // namespace porphyry
