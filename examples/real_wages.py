"""Real wages of three economies: each deflated by its own prices, on a common base, next to unemployment."""

import ultrum as ul

PLACES = {"QM": "Miravel", "QS": "Sorrin", "QT": "Tolvane"}

with (
    ul.practice.serve() as service,
    ul.Desk("wages-vault", sources=ul.practice.sources_at(service.places)) as desk,
):
    real = []
    for code, name in PLACES.items():
        wages = desk.fetch(f"observatory:WAGES/M.{code}.TOTAL")
        prices = desk.fetch(f"observatory:PRICES/M.{code}.CPI")
        yearly = ul.rolling(ul.deflate(wages, prices), "P1Y", min_obs=12)  # a year, so that seasons cancel
        real.append(yearly.with_metadata(name=name, title=f"Real wages, {name}"))
    unemployment = desk.fetch("observatory:LABOUR/M.QM.UNEMP")

table = ul.rebase(ul.to_frequency(ul.SeriesTable.of(real), "Q"), "first")
print(table)
print(ul.growth(table, over="P1Y").to_pandas().mul(100).round(1).tail(8).to_string())
print("\n".join(str(step) for step in table.metadata[0].trail))

lines = [table[name] for name in table.names]
ul.figures.to_png(ul.figures.through_time(*lines, title="Real wages, three economies"), "real_wages.png")
beside = ul.figures.through_time(lines[0], ul.to_frequency(unemployment, "Q"))
ul.figures.to_png(beside, "wages_and_work.png")
