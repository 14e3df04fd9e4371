"""Two awkward files of one measure: read without guessing, joined, every decision on record."""

import ultrum as ul

with (
    ul.practice.serve() as service,
    ul.Desk("messy-vault", sources=ul.practice.sources_at(service.places)) as desk,
):
    old = desk.table("harbour:berths_to_2014.txt")  # 05/03/2010, decimal commas, percent in the prose
    new = desk.table("harbour:berths_from_2014.csv")  # 2014-01-03, newest first, percent in the heading
    rents = desk.table("council:rents/{region}.csv", expand={"region": ["01", "02", "12"]})

for reading in (old, new, rents):
    print(reading.name)
    print(reading.to_frame()[["what", "chosen", "certainty"]].to_string(index=False), "\n")

before, after = old.series["berths taken"], new.series["berths_taken_pct"]
overlap = before.values.index.intersection(after.values.index)
print(f"{len(overlap)} weeks are in both files; largest difference",
      abs(before.values[overlap] - after.values[overlap]).max())  # fmt: skip
print({name: str(s.index[-1]) for name, s in rents.series.items()})
