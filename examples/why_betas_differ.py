"""Why two published betas of one company differ: every combination of choices in one table."""

import ultrum as ul

with (
    ul.practice.serve() as service,
    ul.Desk("betas-vault", sources=ul.practice.sources_at(service.places)) as desk,
):
    close = desk.table("exchange:prices.csv").fields["close"]
    paid = desk.table("exchange:dividends.csv", records_only=True).records
    splits = desk.table("exchange:splits.csv", records_only=True).records
    indices = desk.table("exchange:indices.csv", measure="index", timing="end").series
    bill = desk.table("college:factors_daily.zip", measure="return").series["bill"]

home = close.select([n for n in close.names if close[n].metadata.currency == "QML"])
paid = paid[paid["currency"] == "QML"]
returns = ul.returns(home, dividends=paid, splits=splits)
markets = ul.SeriesTable.of([ul.returns(indices[n]) for n in ("QLX-ALL-TR", "QLX-ALL")])
made = ul.beta_sensitivity(
    returns, markets, "BRTW", risk_free=bill,
    windows=["P2Y", "P5Y", "P10Y"], frequencies=["D", "W", "M"],
    chosen={"window": "P5Y", "frequency": "M"}, published=0.85,
)  # fmt: skip
print(made)
print(made.nearest.round(3).to_string())
