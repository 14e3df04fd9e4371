"""Published tables in common layouts: detection, typing and a report."""
