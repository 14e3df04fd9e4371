"""Frequencies, period arithmetic, relative dates, and grouping of rows by period."""
