"""Where data come from: statistics services that speak SDMX, and tables in files or on the web."""
