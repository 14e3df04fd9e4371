"""The months of a ferry company: every month's return, which months were kind, and how deep it fell."""

import ultrum as ul

with (
    ul.practice.serve() as service,
    ul.Desk("ferry-vault", sources=ul.practice.sources_at(service.places)) as desk,
):
    close = desk.table("exchange:prices.csv").fields["close"].select(["FTHL"])
    paid = desk.table("exchange:dividends.csv", records_only=True).records

total = ul.returns(close, frequency="M", dividends=paid)["FTHL"]
price_only = ul.returns(close, frequency="M")["FTHL"]
grid = ul.calendar_returns(total)
print((100 * grid.table).round(1).to_string(na_rep=""))
print((100 * grid.summary.loc[["mean", "positive"]]).round(1).rename({"positive": "above 0, %"}).to_string())
print(f"With dividends {ul.risk_return(total).table['geometric'].iloc[0]:.2%} a year, "
      f"without {ul.risk_return(price_only).table['geometric'].iloc[0]:.2%}.")  # fmt: skip
print(ul.drawdowns(total, limit=3))
ul.figures.to_png(ul.figures.calendar_heat(grid), "ferry_months.png")
ul.figures.to_png(ul.figures.histogram(ul.distribution(total)), "ferry_spread.png")
