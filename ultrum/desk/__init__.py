"""The desk: sources and vault together."""
