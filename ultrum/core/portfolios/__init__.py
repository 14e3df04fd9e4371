"""Portfolios: characteristics, breakpoints, sorted portfolios, factors from sorts, monotonicity tests."""
