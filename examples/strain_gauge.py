"""A household-strain gauge from four sources: two files joined, weeks to months, scores averaged."""

import ultrum as ul

with (
    ul.practice.serve() as service,
    ul.Desk("strain-vault", sources=ul.practice.sources_at(service.places)) as desk,
):
    old = desk.table("harbour:berths_to_2014.txt")
    new = desk.table("harbour:berths_from_2014.csv")
    outlook = desk.fetch("observatory:OUTLOOK/M.QM.NEXT").with_metadata(name="outlook")
    unemployment = desk.fetch("observatory:LABOUR/M.QM.UNEMP").with_metadata(name="unemployment")
    prices = desk.fetch("observatory:PRICES/M.QM.CPI")

parts = [next(iter(reading.series.values())).with_metadata(timing="average") for reading in (old, new)]
berths = ul.splice(*parts, name="berths")
print(berths.overlap.head(3).to_string(index=False))
print(berths.origin.value_counts().to_string())

inflation = ul.growth(prices, over="P1Y").with_metadata(name="inflation", title="Inflation")
monthly = ul.to_frequency(berths, "M")
gauge = ul.composite(
    [unemployment, inflation, outlook, monthly], orient={"outlook": -1, "berths": -1}, at_least=3,
    name="strain", title="Household strain, Miravel",
)  # fmt: skip
print(gauge.contributions.tail(3).round(2).to_string())
print(gauge.extremes(90, min_length=3).to_string(index=False))
now = gauge.percentile.iloc[-1]
print(f"The last month is higher than {now:.0f} % of all; {gauge.available.iloc[-1]} parts are in it.")

sides = [part for _, part in gauge.extremes(90).groupby("side")]
figure = ul.figures.through_time(gauge, shade=sides, reference={"strain": 0.0})
ul.figures.to_png(figure, "strain.png")
parts = [unemployment, inflation, outlook, monthly]
four = ul.figures.small_multiples(parts, columns=2, title="What is in the gauge")
ul.figures.to_png(four[0], "strain_parts.png")
