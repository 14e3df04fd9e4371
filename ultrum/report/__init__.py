"""Results for people: figures, tables of text, files, and the report page."""
