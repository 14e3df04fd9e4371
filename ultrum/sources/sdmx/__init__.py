"""A client for statistics services over SDMX (ISO 17369) REST."""
