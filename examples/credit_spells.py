"""Credit-spread episodes next to a share index, and an inverted curve marked on it."""

import ultrum as ul

with (
    ul.practice.serve() as service,
    ul.Desk("credit-vault", sources=ul.practice.sources_at(service.places)) as desk,
):
    daily = desk.fetch("exchange:indices.csv#QLX-ALL-TR", measure="index", timing="end", income="total")
    credit = desk.fetch("observatory:RATES/M.QM.SPREAD").with_metadata(name="credit")
    long, short = (desk.fetch(f"observatory:RATES/M.QM.GOV_{term}") for term in ("10Y", "1Y"))

shares = ul.to_frequency(daily, "M").with_metadata(title="All shares, total return")
strained = ul.spells(credit, "above its 90th percentile", min_length=2)
curve = ul.spread(long, short, name="slope")
inverted = ul.spells(curve, "below zero", min_length=2)
print("Credit spread above its 90th percentile:", strained.to_string(index=False), sep="\n")
print("Long rate below the short one:", inverted.to_string(index=False), sep="\n")

yearly = ul.growth(shares, over="P1Y").values
in_spells = [yearly[row.start : row.end].mean() for row in strained.itertuples()]
print("Shares on a year before, within each strained spell:", [f"{100 * g:.1f} %" for g in in_spells])
figure = ul.figures.through_time(shares, credit, shade=strained, title="Shares and the credit spread")
ul.figures.to_png(figure, "credit_spells.png")
figure = ul.figures.through_time(curve, shade=inverted, reference={"slope": 0.0})
ul.figures.to_png(figure, "inverted_curve.png")
