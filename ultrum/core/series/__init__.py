"""Time series and tables of them, with metadata, labels and arithmetic."""
