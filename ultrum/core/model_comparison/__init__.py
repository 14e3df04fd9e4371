"""Comparison of factor models, of Sharpe ratios and of forecasts of beta."""
