"""A quarterly macro panel as it was known at the time, written for other statistical software."""

import ultrum as ul

with (
    ul.practice.serve() as service,
    ul.Desk("quarter-vault", sources=ul.practice.sources_at(service.places)) as desk,
):
    output = desk.fetch("observatory:OUTPUT/Q.QM.GDP")
    unemployment = desk.fetch("observatory:LABOUR/M.QM.UNEMP").with_metadata(name="unemployment")
    prices = desk.fetch("observatory:PRICES/M.QM.CPI")
    vintages = desk.table("archive:vintages.csv", records_only=True, date_column="released").records

growth = ul.growth(output, over="P1Y").with_metadata(name="output_growth")
inflation = ul.growth(prices, over="P1Y").with_metadata(name="inflation")
monthly = ul.practice.panel()
assets = ul.to_frequency(ul.SeriesTable(monthly.assets, tuple(monthly.metadata[n] for n in monthly.assets)), "Q")
factors = ul.to_frequency(monthly.factor_table, "Q", risk_free=monthly.rate)

own = vintages[(vintages["flow"] == "OUTPUT") & (vintages["key"] == "Q.QM.GDP")]
dates = own.groupby("period")["date"].min()  # when each quarter was first published
panel = ul.align(
    assets=assets, factors=factors, risk_free=ul.to_frequency(monthly.rate, "Q"), frequency="Q",
    conditions=[growth, unemployment, inflation],
    known_by={"output_growth": dates, "unemployment": "P1M", "inflation": "release lag"},
)  # fmt: skip
print(panel)
print(panel.coverage.loc[["output_growth", "unemployment", "inflation"]].to_string())

written = ul.save(panel, "quarterly_panel.csv", layout="long", periods="columns")
print([file.name for file in written])  # the second describes each column
print(written[0].read_text().splitlines()[0])
