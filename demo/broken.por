-- A share of readings that nobody asked for: `porphyry run broken.por ratio 1 0` ends in a trap.
module broken
source 1 "night.fml"

func ratio(cold: i64, all: i64) -> i64 {
enter:
  hundred = mul cold, 100         @1:20:9
  q       = div.s hundred, all    @1:21:9
  return q
}
