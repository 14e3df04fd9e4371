"""From regressions to prices of risk: betas of a panel, premia, costs of equity."""
