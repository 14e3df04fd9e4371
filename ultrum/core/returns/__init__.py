"""Prices and their adjustment, returns, excess returns, yields and nearest dates."""
