"""The allowed return of a tide-power utility: its own beta, its peers', a premium, and how sure all that is."""

import ultrum as ul

with (
    ul.practice.serve() as service,
    ul.Desk("allowed-vault", sources=ul.practice.sources_at(service.places)) as desk,
):
    accounts = desk.table("exchange:accounts.csv", records_only=True).records
    companies = desk.table("exchange:companies.csv", records_only=True).records

panel = ul.practice.panel()
table = ul.factor_betas(panel.sample("2015-01"), ["market"])
market = ul.TimeSeries(panel.factors["market"], panel.metadata["market"])
history = ul.premium(market, mean="blume", horizon=5, risk_free=panel.rate)

last = accounts.sort_values("date").groupby("asset").last()
leverage = (last["net_debt_m"] / last["market_value_m"]).clip(lower=0)
peers = companies.loc[companies["industry"] == "tide and power", "asset"].drop_duplicates()
peers = [p for p in peers if p != "BRTW"]
business = ul.peer_beta(
    table, peers, debt_to_equity=leverage, tax=last["tax_rate"], how="precision",
    target_debt_to_equity=leverage["BRTW"], target_tax=last.loc["BRTW", "tax_rate"],
)  # fmt: skip
print(business)

cost = ul.cost_of_equity(
    table, premia={"market": history}, risk_free=panel.rate, draws=5000,
    add_ons={"licence risk": (0.0035, "the licence ends in 2031; order 12 of 2023")},
)  # fmt: skip
print(cost.to_frame().loc[["BRTW"]].round(4).to_string())
print(cost.interval(method="bootstrap").loc[["BRTW"]].round(4).to_string())
print(cost.parts.loc["BRTW", ["beta", "premium", "contribution", "variance_share"]].round(4).to_string())
print("where the variance comes from:", cost.shares.loc["BRTW"].round(2).to_dict())
estimators = {"own": table, "vasicek": ul.shrink_betas(table), "lagged": ul.dimson_beta(panel.sample("2015-01"))}
print(ul.cost_comparison(estimators, asset="BRTW", premia={"market": history}, risk_free=panel.rate)
      .round(3).to_string())  # fmt: skip
ul.figures.to_png(ul.figures.cost_components(cost, "BRTW"), "allowed_return.png")
ul.figures.to_png(ul.figures.peers(business), "peers.png")
