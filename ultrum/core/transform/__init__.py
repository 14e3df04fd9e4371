"""Transformations of series."""
