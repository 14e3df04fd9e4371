"""What returns look like: risk, distribution, seasons, momentum, drawdown, correlation, holdings."""
