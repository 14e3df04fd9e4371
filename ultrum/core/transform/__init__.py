"""Functions from series to series of the same frequency."""
