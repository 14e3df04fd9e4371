"""Risk and return of all companies, one next to the market, and the market after credit strain."""

import ultrum as ul

with (
    ul.practice.serve() as service,
    ul.Desk("risk-vault", sources=ul.practice.sources_at(service.places)) as desk,
):
    credit = desk.fetch("observatory:RATES/M.QM.SPREAD")

panel = ul.practice.panel()
assets = ul.SeriesTable(panel.assets, tuple(panel.metadata[n] for n in panel.assets))
risk = ul.risk_return(assets, risk_free=panel.rate)
print(
    risk.table[["mean", "volatility", "sharpe_ratio", "sharpe_se", "max_drawdown"]]
    .astype(float)
    .round(3)
    .to_string()
)

market = ul.portfolio(assets, name="market")
print(ul.compare_to_benchmark(assets["BRTW"], market))
strained = ul.spells(credit, "above its 90th percentile")
print(ul.forward_returns(market, strained, ["P1M", "P3M", "P1Y"]))
print(ul.correlations(panel.factor_table))
ul.figures.to_png(ul.figures.risk_against_return(risk), "risk_of_all.png")
ul.figures.to_png(ul.figures.coverage_timeline(panel), "coverage.png")
