"""Least squares on time series: estimates, their covariance, and tests."""
