"""Computation only: arrays in, arrays out; no files, network, printing, plotting or global state."""
