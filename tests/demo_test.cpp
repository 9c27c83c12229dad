// The demo's kernels against their twins in C++, compiled by the host compiler: on the night, on noise, on
// short and empty inputs; at every level.
#include <gtest/gtest.h>

#include <cstdlib>
#include <cstring>
#include <random>

#include "porphyry/analyze/verify.h"
#include "porphyry/base/files.h"
#include "porphyry/call/call.h"
#include "porphyry/jit/jit.h"
#include "porphyry/passes/passes.h"
#include "porphyry/targets/targets.h"
#include "support/process.h"
#include "support/read.h"

extern "C" {
int64_t unpack(const uint8_t*, uint8_t*, int64_t);
int32_t checksum(const uint8_t*, int64_t);
float chill(const float*, int64_t, float, float);
int64_t coldest(const float*, int64_t);
int32_t alarm_count(const float*, int64_t, float, uint8_t*);
double dew_point(double, double);
int16_t median(int16_t, int16_t, int16_t);
void histogram(const float*, int64_t, float, int32_t*, int32_t);
float blend(const float*, const float*, int64_t, float, float*);
void smooth(const float*, int64_t, float*);
int64_t crossings(const float*, int64_t, float, int32_t*, int64_t);
int32_t route(int32_t, int32_t);
float between(const float*, int64_t, float);
double trend(const float*, int64_t, double);
int64_t longest(const float*, int64_t, float);
int64_t frosts(const float*, int64_t, float);
int16_t seal(const uint8_t*, int64_t);
int32_t ways(int32_t, int32_t);
int32_t crates(int32_t);
int64_t shade(const uint8_t*, int64_t, int64_t);
int32_t replay(const uint8_t*, int64_t);
int64_t clock_digits(int64_t);
int64_t posts(const uint64_t*, const uint64_t*, int64_t);
int32_t words(const uint8_t*, int64_t);
int64_t arrange(int32_t*, int64_t);
int64_t place(const int32_t*, int64_t, int32_t);
}

namespace porphyry {
namespace {

// Calls both with copies of the same memory; results and all that was written must be the same bits.
class Pair {
 public:
  explicit Pair(const Jit& jit) : jit_(jit) {}

  template <class R, class... A>
  void expect_same(const char* name, R (*twin)(A...), std::vector<uint8_t>& scratch, A... arguments) {
    auto ours = reinterpret_cast<R (*)(A...)>(jit_.address(name));
    ASSERT_NE(ours, nullptr) << name;
    std::vector<uint8_t> fresh = scratch;
    if constexpr (std::is_void_v<R>) {
      twin(arguments...);
      std::vector<uint8_t> theirs = scratch;
      std::copy(fresh.begin(), fresh.end(), scratch.begin());
      ours(arguments...);
      EXPECT_EQ(scratch, theirs) << name;
    } else {
      R meant = twin(arguments...);
      std::vector<uint8_t> theirs = scratch;
      std::copy(fresh.begin(), fresh.end(), scratch.begin());
      R is = ours(arguments...);
      EXPECT_EQ(std::memcmp(&is, &meant, sizeof(R)), 0) << name << ": " << is << ", not " << meant;
      EXPECT_EQ(scratch, theirs) << name;
    }
  }

 private:
  const Jit& jit_;
};

void compare(const Jit& jit, const std::vector<float>& temps, const std::vector<uint8_t>& frame,
             uint32_t seed) {
  Pair pair(jit);
  std::mt19937 random(seed);
  int64_t n = static_cast<int64_t>(temps.size()), bytes = static_cast<int64_t>(frame.size());
  const float* t = temps.data();
  std::vector<uint8_t> scratch(std::max<size_t>(4096, temps.size() * 8));
  float* floats = reinterpret_cast<float*>(scratch.data());
  int32_t* ints = reinterpret_cast<int32_t*>(scratch.data());
  pair.expect_same("unpack", &unpack, scratch, frame.data(), scratch.data(), bytes / 3);
  pair.expect_same("checksum", &checksum, scratch, frame.data(), bytes);
  pair.expect_same("seal", &seal, scratch, frame.data(), bytes);
  pair.expect_same("chill", &chill, scratch, t, n, 2.5f, 10.0f);
  pair.expect_same("coldest", &coldest, scratch, t, n);
  pair.expect_same("alarm", &alarm_count, scratch, t, n, 0.5f, scratch.data());
  pair.expect_same("histogram", &histogram, scratch, t, n, -5.0f, ints, 16);
  pair.expect_same("blend", &blend, scratch, t, t, n, 0.25f, floats);
  pair.expect_same("smooth", &smooth, scratch, t, n, floats);
  pair.expect_same("crossings", &crossings, scratch, t, n, 0.0f, ints, int64_t(5));
  pair.expect_same("trend", &trend, scratch, t, n, 10.0);
  pair.expect_same("longest", &longest, scratch, t, n, 0.0f);
  pair.expect_same("frosts", &frosts, scratch, t, n, 0.0f);
  for (int32_t post = 0; post < 12; ++post) pair.expect_same("route", &route, scratch, post, 12);
  if (n >= 4) pair.expect_same("between", &between, scratch, t, n / 2, 0.333f);
  for (int k = 0; k < 20; ++k) {
    auto any = [&] { return static_cast<int16_t>(random()); };
    pair.expect_same("median", &median, scratch, any(), any(), any());
    pair.expect_same("dew_point", &dew_point, scratch, static_cast<double>(random() % 400) / 20.0,
                     static_cast<double>(random() % 1000) / 10.0);
  }
}

void compare_ledger(const Jit& jit, const std::vector<uint8_t>& bytes) {
  Pair pair(jit);
  int64_t n = static_cast<int64_t>(bytes.size());
  std::vector<uint8_t> scratch(bytes);
  scratch.resize(bytes.size() + 64);
  for (int32_t k = 0; k < 6; ++k) pair.expect_same("ways", &ways, scratch, k, 5 - k / 2);
  for (int32_t k : {0, 23, -7}) pair.expect_same("crates", &crates, scratch, k);
  for (int64_t columns : {1, 2, 3, 7, 48})
    pair.expect_same("shade", &shade, scratch, bytes.data(), n / columns, columns);
  pair.expect_same("replay", &replay, scratch, bytes.data(), n);
  for (int64_t s : {int64_t(0), int64_t(93784), int64_t(-93784), int64_t(1) << 50, -(int64_t(1) << 50)})
    pair.expect_same("clock", &clock_digits, scratch, s);
  std::vector<uint64_t> first(bytes.size() / 16), second(bytes.size() / 16);
  for (size_t k = 0; k < first.size(); ++k) {
    std::memcpy(&first[k], &bytes[8 * k], 8);
    std::memcpy(&second[k], &bytes[8 * (first.size() + k)], 8);
  }
  pair.expect_same("posts", &posts, scratch, static_cast<const uint64_t*>(first.data()),
                   static_cast<const uint64_t*>(second.data()), static_cast<int64_t>(first.size()));
  std::vector<uint8_t> text(bytes);
  for (size_t k = 0; k < text.size(); ++k)
    text[k] = static_cast<uint8_t>(text[k] % 7 ? 'A' + text[k] % 58 : ' ');
  pair.expect_same("words", &words, scratch, static_cast<const uint8_t*>(text.data()), n);
  pair.expect_same("arrange", &arrange, scratch, reinterpret_cast<int32_t*>(scratch.data()), n / 4);
  const int32_t marks[] = {-9, 0, 0, 4, 17, 300};
  for (int32_t wanted : {-10, -9, 0, 1, 17, 301})
    for (int64_t count = 0; count <= 6; ++count)
      pair.expect_same("place", &place, scratch, static_cast<const int32_t*>(marks), count, wanted);
}

void* with_allocation(std::string_view name) {
  if (name == "malloc") return reinterpret_cast<void*>(&std::malloc);
  if (name == "free") return reinterpret_cast<void*>(&std::free);
  return usual_externals(name);
}

TEST(Demo, LedgerDoesWhatItsTwinsDo) {
  for (const Level& level : all_levels()) {
    Realm realm;
    auto module = testing::must_read(realm, *read_file(PORPHYRY_ROOT "/demo/ledger.por"));
    ASSERT_EQ(render(run_pipeline(*module, level.pipeline())), "");
    auto jit = Jit::compile(*module, *native_target(), machine::LowerOptions::at(level), with_allocation);
    ASSERT_TRUE(jit.good()) << render(jit.why());
    std::mt19937 random(3);
    for (size_t n : {0u, 1u, 2u, 17u, 144u, 600u}) {
      std::vector<uint8_t> bytes;
      for (size_t k = 0; k < n; ++k) bytes.push_back(static_cast<uint8_t>(random()));
      compare_ledger(**jit, bytes);
    }
  }
}

TEST(Demo, KernelsDoWhatTheirTwinsDo) {
  std::string folder = PORPHYRY_ROOT "/demo";
  auto night = read_numbers(folder + "/night.txt", Type::f32(), 2),
       frame = read_numbers(folder + "/frame.txt", Type::integer(8), 0);
  std::vector<float> temps(night->size() / 4);
  std::memcpy(temps.data(), night->data(), night->size());
  for (const Level& level : all_levels()) {
    Realm realm;
    auto module = testing::must_read(realm, *read_file(folder + "/frostwatch.por"));
    ASSERT_EQ(render(run_pipeline(*module, level.pipeline())), "");
    auto jit = Jit::compile(*module, *native_target(), machine::LowerOptions::at(level));
    ASSERT_TRUE(jit.good()) << render(jit.why());
    compare(**jit, temps, *frame, 1);
    std::mt19937 random(7);
    for (size_t n : {0u, 1u, 2u, 3u, 5u, 17u, 200u}) {
      std::vector<float> noise;
      std::vector<uint8_t> bytes;
      for (size_t k = 0; k < n; ++k)
        noise.push_back(static_cast<float>(static_cast<int>(random() % 4000) - 2000) / 100.0f);
      for (size_t k = 0; k < n; ++k) bytes.push_back(static_cast<uint8_t>(random()));
      compare(**jit, noise, bytes, static_cast<uint32_t>(n));
    }
  }
}

// The alarm rules' answer for frost, from the readings themselves; and rules that are wrong.
TEST(AlarmRules, RingWhenTheReadingsSay) {
  auto night = read_numbers(PORPHYRY_ROOT "/demo/night.txt", Type::f32(), 2);
  std::vector<float> t(night->size() / 4);
  std::memcpy(t.data(), night->data(), night->size());
  int frost = 0;
  for (size_t k = 0; k < t.size(); ++k)
    frost += t[k] < 0 && t[k < 1 ? 0 : k - 1] < 0 && t[k < 2 ? 0 : k - 2] < 0;
  std::string tool = std::string(PORPHYRY_EXAMPLES) + "/example_alarm_rules ",
              night_path = " " PORPHYRY_ROOT "/demo/night.txt";
  auto run = testing::run_command(tool + PORPHYRY_ROOT "/demo/alarm.rules" + night_path);
  EXPECT_EQ(run.status, 0) << run.out;
  EXPECT_NE(run.out.find("frost     " + std::to_string(frost) + " of 96"), std::string::npos) << run.out;
  testing::TemporaryFolder folder;
  std::string wrong = folder.write("wrong.rules",
                                   "reading air in C\nreading humidity in percent\n"
                                   "alarm a when air < 5 percent\nalarm b when ari < 1 C\n"
                                   "alarm c when air + 1 C\nalarm d when f(air) < 1 C\n");
  auto refused = testing::run_command(tool + wrong + night_path + " 2>&1");
  EXPECT_EQ(refused.status, 1);
  for (const char* part :
       {":3:18: '<' of C and percent", ":4:14: nothing is called 'ari' above", "perhaps 'air'",
        ":5:18: an alarm rings or not, and this is C", ":6:14: no function is called 'f' above"})
    EXPECT_NE(refused.out.find(part), std::string::npos) << part << "\n" << refused.out;
}

}  // namespace
}  // namespace porphyry
