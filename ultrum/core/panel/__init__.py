"""Panels: alignment of assets and factors, release dates, and the log of missing data."""
