// A base station in C++ that calls two kernels of frostwatch.por on the readings of one night.
#include <cstdint>
#include <cstdio>
#include <fstream>
#include <sstream>
#include <string>
#include <vector>

extern "C" float chill(const float* temps, int64_t n, float base, float minutes);
extern "C" int64_t frosts(const float* temps, int64_t n, float limit);

// The lowest mean of three readings in a row.
float watch(const std::vector<float>& temps) {
  float lowest = temps[0];
  for (size_t k = 2; k < temps.size(); ++k) {
    float mean = (temps[k - 2] + temps[k - 1] + temps[k]) / 3;
    if (mean < lowest) lowest = mean;
  }
  return lowest;
}

int main() {
  std::ifstream night("night.txt");
  std::vector<float> temps;
  for (std::string line; std::getline(night, line);) {
    std::istringstream row(line);
    float minute = 0, dry = 0;
    if (row >> minute >> dry) temps.push_back(dry);
  }
  if (temps.size() < 3) return std::fprintf(stderr, "night.txt: three readings or more expected\n"), 1;
  auto n = static_cast<int64_t>(temps.size());
  std::printf("%lld readings below freezing, %.1f degree-minutes below 2.5, lowest mean of three %.2f\n",
              static_cast<long long>(frosts(temps.data(), n, 0)), chill(temps.data(), n, 2.5F, 10),
              watch(temps));
}
