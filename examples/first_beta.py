"""From live sources to a cost of equity in about twenty lines, on the practice world."""

import ultrum as ul

with (
    ul.practice.serve() as service,
    ul.Desk("first-beta-vault", sources=ul.practice.sources_at(service.places)) as desk,
):
    prices = desk.table("exchange:prices.csv").fields["close"].select(["BRTW", "EBMK", "SLTM"])
    dividends = desk.table("exchange:dividends.csv", records_only=True).records
    factors = desk.table("college:factors_monthly.zip", measure="return").series
    inflation = ul.growth(desk.fetch("observatory:PRICES/M.QM.CPI"), over="P1Y")

bill, market = factors["bill"], factors["market"].with_metadata(excess_of="bill")
returns = ul.returns(prices, frequency="M", dividends=dividends)
panel = ul.align(assets=returns, factors=market, risk_free=bill)
betas = ul.factor_betas(panel, errors="hac")
cost = ul.cost_of_equity(betas, premia={"market": market}, risk_free=bill)

print(panel, betas.fit("BRTW"), cost, sep="\n\n")
print(f"\nInflation over the last year: {100 * inflation.values.iloc[-1]:.2f} %")
ul.figures.to_png(ul.figures.line_of_fit(betas.fit("BRTW")), "first_beta.png")
