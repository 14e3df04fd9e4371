"""Sources of data: statistics services over SDMX, and tables in files or on the web."""
