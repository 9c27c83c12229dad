// The demo kernels in C++, for the host compiler: the same sums over the same types.
#include <cmath>
#include <cstdint>
#include <cstring>

extern "C" {

int64_t unpack(const uint8_t* frame, uint8_t* out, int64_t pairs) {
  for (int64_t k = 0; k < pairs; ++k) {
    uint8_t a = frame[3 * k], b = frame[3 * k + 1], c = frame[3 * k + 2];
    uint16_t first = static_cast<uint16_t>(a | (b & 15) << 8),
             second = static_cast<uint16_t>(c << 4 | b >> 4);
    std::memcpy(out + 4 * k, &first, 2);
    std::memcpy(out + 4 * k + 2, &second, 2);
  }
  return 2 * pairs;
}

int32_t checksum(const uint8_t* frame, int64_t n) {
  uint32_t a = 0, b = 0;
  for (int64_t i = 0; i < n; ++i) {
    a = (a + frame[i]) % 255;
    b = (b + a) % 255;
  }
  return static_cast<int32_t>(b << 8 | a);
}

// The maximum of the 2019 standard, as the IR has it: NaN wins, +0 is above -0.
static inline float maximum(float a, float b) {
  if (a != a || b != b) return a + b;
  if (a == b) return std::signbit(a) ? b : a;
  return a > b ? a : b;
}

float chill(const float* temps, int64_t n, float base, float minutes) {
  float total = 0;
  for (int64_t i = 0; i < n; ++i) total += maximum(base - temps[i], 0.0f);
  return total * minutes;
}

int64_t coldest(const float* temps, int64_t n) {
  if (n <= 0) return -1;
  int64_t at = 0;
  float least = temps[0];
  for (int64_t i = 1; i < n; ++i) {
    bool colder = temps[i] < least;
    at = colder ? i : at;
    least = colder ? temps[i] : least;
  }
  return at;
}

static const int32_t patience[2] = {3, 2};

int32_t alarm_count(const float* temps, int64_t n, float limit, uint8_t* states) {
  int32_t ringing = 0, streak = 0, count = 0;
  for (int64_t i = 0; i < n; ++i) {
    bool cold = temps[i] < limit, rings = ringing != 0;
    int32_t run = rings != cold ? streak + 1 : 0;
    if (run >= (rings ? patience[1] : patience[0])) ringing ^= 1, run = 0;
    streak = run;
    states[i] = static_cast<uint8_t>(ringing);
    count += ringing;
  }
  return count;
}

double dew_point(double temp, double humidity) {
  double m = humidity / 100.0 - 1.0;
  double p3 = m * -4.0 + 5.5, p2 = m * p3 - 8.25, p1 = m * p2 + 14.5;
  return temp + m * p1;
}

int16_t median(int16_t a, int16_t b, int16_t c) {
  int16_t low = a < b ? a : b, high = a < b ? b : a, capped = high < c ? high : c;
  return low > capped ? low : capped;
}

void histogram(const float* temps, int64_t n, float base, int32_t* counts, int32_t bins) {
  for (int64_t i = 0; i < n; ++i) {
    int32_t bin = static_cast<int32_t>(std::floor(temps[i] - base));
    bin = bin < 0 ? 0 : bin > bins - 1 ? bins - 1 : bin;
    ++counts[bin];
  }
}
}
