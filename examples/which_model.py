"""Which factor model, and which estimate of beta? The tests side by side, and where they disagree."""

import ultrum as ul

panel = ul.practice.panel()
models = {"CAPM": ["market"], "three factors": ["market", "size", "value"], "momentum": ["market", "momentum"]}
comparison = ul.compare_models(panel, models)
print(comparison.models[["factors", "squared_sharpe", "adjusted", "ols_r2"]].round(3))
print(comparison.preferences.to_string())

returns = ul.SeriesTable.from_pandas(panel.assets, measure="return")
market = ul.TimeSeries.from_pandas((panel.factors["market"] + panel.risk_free).rename("index"), measure="return")
forecasts = ul.evaluate_betas(
    returns, market, risk_free=panel.rate, windows=["P3Y", "P5Y"], frequencies=["M"], horizon="P2Y"
)
print(forecasts.table[["mse", "bias", "dm_t", "included"]].head(5).round(3))
