"""Frequencies, period arithmetic, dates in words, and grouping of rows by period."""
