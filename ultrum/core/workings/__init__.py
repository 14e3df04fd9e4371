"""Workings: how a number follows from its inputs, step by step."""
