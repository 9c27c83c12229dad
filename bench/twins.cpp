// The demo kernels in C++, for the host compiler: the same sums over the same types.
#include <cmath>
#include <cstdint>
#include <cstdlib>
#include <cstring>
#include <initializer_list>

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

float blend(const float* dry, const float* wet, int64_t n, float share, float* out) {
  float total = 0;
  for (int64_t i = 0; i < n; ++i) {
    out[i] = dry[i] + (wet[i] - dry[i]) * share;
    total += out[i];
  }
  return total;
}

void smooth(const float* temps, int64_t n, float* out) {
  auto at = [&](int64_t i) { return temps[i < 0 ? 0 : i > n - 1 ? n - 1 : i]; };
  for (int64_t i = 0; i < n; ++i)
    out[i] = (at(i - 2) + at(i + 2) + (at(i - 1) + at(i + 1)) * 4 + temps[i] * 6) * 0.0625f;
}

int64_t crossings(const float* temps, int64_t n, float limit, int32_t* log, int64_t room) {
  if (n <= 0) return 0;
  bool was = temps[0] < limit;
  int64_t count = 0;
  for (int64_t i = 1; i < n; ++i) {
    bool cold = temps[i] < limit;
    if (cold != was && count < room) {
      log[2 * count] = static_cast<int32_t>(i);
      log[2 * count + 1] = cold ? -1 : 1;
      ++count;
    }
    was = cold;
  }
  return count;
}

static const int16_t hops[12] = {0, 0, 1, 1, 3, 2, 4, 6, 7, 5, 9, 10};

int32_t route(int32_t post, int32_t posts) {
  int32_t count = 0;
  for (; post != 0; ++count) {
    if (count > posts) __builtin_trap();
    post = hops[post];
  }
  return count;
}

static const float spline[16] = {0, 1, 0, 0, -0.5, 0, 0.5, 0, 1, -2.5, 2, -0.5, -0.5, 1.5, -1.5, 0.5};

float between(const float* temps, int64_t at, float fraction) {
  float total = 0, power = 1;
  for (int r = 0; r < 4; ++r, power *= fraction) {
    float dot = 0;
    for (int c = 0; c < 4; ++c) dot += spline[4 * r + c] * temps[at - 1 + c];
    total += power * dot;
  }
  return total;
}

double trend(const float* temps, int64_t n, double minutes) {
  if (n <= 1) return 0;
  double sum = 0, weighted = 0, count = static_cast<double>(n);
  for (int64_t i = 0; i < n; ++i) sum += temps[i], weighted += static_cast<double>(i) * temps[i];
  double slope = (weighted - (count - 1) * 0.5 * sum) / (count * (count * count - 1) / 12);
  return slope * (60 / minutes);
}

int64_t longest(const float* temps, int64_t n, float limit) {
  int64_t run = 0, most = 0;
  for (int64_t i = 0; i < n; ++i) {
    run = temps[i] < limit ? run + 1 : 0;
    most = run > most ? run : most;
  }
  return most;
}

int64_t frosts(const float* temps, int64_t n, float limit) {
  int64_t count = 0;
  for (int64_t i = 0; i < n; ++i) count += temps[i] < limit;
  return count;
}

// In lanes, as the demo has it: where sizes are compared.
typedef float FourFloats __attribute__((vector_size(16), aligned(4)));
typedef int32_t FourCounts __attribute__((vector_size(16)));
int64_t frosts_in_lanes(const float* temps, int64_t n, float limit) {
  int64_t fours = n & -4, count = 0;
  if (fours > 0) {
    FourCounts counts = {};
    for (int64_t i = 0; i < fours; i += 4)
      counts -= *reinterpret_cast<const FourFloats*>(temps + i) < limit - FourFloats{};
    count = counts[0] + counts[1] + counts[2] + counts[3];
  }
  for (int64_t i = fours; i < n; ++i) count += temps[i] < limit;
  return count;
}

int16_t seal(const uint8_t* frame, int64_t n) {
  uint16_t code = 0xffff;
  for (int64_t i = 0; i < n; ++i) {
    code = static_cast<uint16_t>(code ^ frame[i] << 8);
    for (int k = 0; k < 8; ++k) code = static_cast<uint16_t>(code & 0x8000 ? code << 1 ^ 0x1021 : code << 1);
  }
  return static_cast<int16_t>(code);
}
// ---- the ledger's

int32_t ways(int32_t rows, int32_t columns) {
  return rows == 0 || columns == 0 ? 1 : ways(rows - 1, columns) + ways(rows, columns - 1);
}

struct Crates {
  int32_t* data;
  int64_t count, room;
};
static inline void put(Crates& b, int32_t n) {
  if (b.count == b.room) {
    int64_t more = 2 * b.room > 4 ? 2 * b.room : 4;
    auto* fresh = static_cast<int32_t*>(std::malloc(static_cast<size_t>(4 * more)));
    if (b.count) std::memcpy(fresh, b.data, static_cast<size_t>(4 * b.count));
    std::free(b.data);
    b.data = fresh, b.room = more;
  }
  b.data[b.count++] = n;
}
int32_t crates(int32_t first) {
  Crates b{};
  for (int32_t n : {first, 12, 7, 31, 18, first, 5}) put(b, n);
  int32_t sum = 0;
  for (int64_t i = 0; i < b.count; ++i) sum += b.data[i];
  std::free(b.data);
  return sum;
}

int64_t shade(const uint8_t* heights, int64_t rows, int64_t columns) {
  int64_t sum = 0;
  for (int64_t r = 0; r < rows; ++r)
    for (int64_t c = 0; c < columns; ++c) {
      uint8_t mine = heights[r * columns + c];
      for (int64_t k = 1; k <= 3; ++k) {
        if (c >= k) sum += heights[r * columns + c - k] > mine;
        if (r >= k) sum += heights[(r - k) * columns + c] > mine;
      }
    }
  return sum;
}

int32_t replay(const uint8_t* log, int64_t n) {
  uint32_t level = 100, mark = 0;
  for (int64_t i = 0; i < n; ++i) {
    uint32_t before = level;
    switch (log[i] & 15) {
      case 1: level += 7; break;
      case 2: level -= 5; break;
      case 3: level = static_cast<uint32_t>(static_cast<int32_t>(level) >> 1); break;
      case 4: level <<= 1; break;
      case 5: mark = level; break;
      case 6: level = mark; break;
      case 7: level = mark, mark = before; break;
      case 8: level ^= 85; break;
      case 9: level &= 1023; break;
      case 10: level = mark - level; break;
      case 11: level += mark; break;
      default: break;
    }
  }
  return static_cast<int32_t>(level + mark);
}

int64_t clock_digits(int64_t seconds) {
  int64_t minutes = seconds / 60, hours = minutes / 60, days = hours / 24;
  return ((days * 100 + hours % 24) * 100 + minutes % 60) * 100 + seconds % 60;
}

int64_t posts(const uint64_t* first, const uint64_t* second, int64_t words) {
  uint64_t count = 0, all = 0;
  for (int64_t i = 0; i < words; ++i) {
    uint64_t x = first[i] ^ second[i];
    all |= x;
    for (; x; x &= x - 1) ++count;
  }
  return static_cast<int64_t>(count << 8 | (all ? 64 - static_cast<unsigned>(__builtin_clzll(all)) : 0));
}

int32_t words(const uint8_t* text, int64_t n) {
  uint32_t hash = 0, inside = 0;
  for (int64_t i = 0; i < n; ++i) {
    uint8_t lower = text[i] | 32;
    if (static_cast<uint8_t>(lower - 97) < 26)
      inside = (inside ^ lower) * 16777619u;
    else if (inside)
      hash = (hash << 5 | hash >> 27) + inside, inside = 0;
  }
  return static_cast<int32_t>(hash + inside);
}

int64_t arrange(int32_t* numbers, int64_t n) {
  int64_t moves = 0;
  for (int64_t i = 1; i < n; ++i) {
    int32_t v = numbers[i];
    int64_t k = i;
    for (; k > 0 && numbers[k - 1] > v; --k) numbers[k] = numbers[k - 1], ++moves;
    numbers[k] = v;
  }
  return moves;
}

int64_t place(const int32_t* table, int64_t n, int32_t wanted) {
  int64_t low = 0, high = n;
  while (low < high) {
    int64_t middle = static_cast<int64_t>(static_cast<uint64_t>(low + high) >> 1);
    if (table[middle] < wanted)
      low = middle + 1;
    else
      high = middle;
  }
  return low;
}
}
