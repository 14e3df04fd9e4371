"""Data sets larger than memory, fed to `core` in blocks: long Parquet files sorted by asset and date."""
