"""Asset pricing: betas of a panel, premia, costs of equity."""
