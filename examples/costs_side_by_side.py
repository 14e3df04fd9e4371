"""The cost of equity of one company by the CAPM, by hierarchical shrinkage and implied by analysts' forecasts."""

import ultrum as ul

panel, world = ul.practice.panel(), ul.practice.forecasts()
market = {"market": panel.factor_table["market"]}
betas = ul.factor_betas(panel, ["market"])
industries = {a: "sea" if a < "M" else "land" for a in panel.asset_names}

bias = ul.forecast_bias(world.history)
implied = ul.implied_cost_of_equity(
    world.table,
    long_run_growth=world.long_run_growth,
    long_run_growth_error=0.005,
    bias=float(bias["bias"]["all"]),
    bias_error=float(bias["standard_error"]["all"]),
)
costs = {
    "CAPM": ul.cost_of_equity(betas, premia=market, risk_free=panel.rate),
    "hierarchical": ul.hierarchical_cost_of_equity(betas, industries, premia=market, risk_free=panel.rate),
    "implied": implied,
}
print(ul.compare_costs(costs, "BRTW"))
print(f"The truth of the practice world: {world.true_costs['BRTW']:.4f}")
