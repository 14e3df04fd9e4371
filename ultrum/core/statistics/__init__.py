"""Descriptive statistics of returns: risk, distribution, seasons, momentum, drawdown, correlation, positions."""
