"""A made-up market's whole history as one Parquet file, larger than anyone wants to hold in memory."""

from __future__ import annotations

from pathlib import Path

import numpy as np
import pandas as pd
import pyarrow as pa
import pyarrow.parquet as pq

FACTORS = ["market", "size", "value"]


def calendar(days: int) -> pd.DatetimeIndex:
    """So many weekdays up to the end of 2024."""
    return pd.bdate_range(end="2024-12-31", periods=days)


def factors(days: int, seed: int = 0) -> pd.DataFrame:
    """Daily factor returns, (days, 3)."""
    drawn = np.random.default_rng(seed).normal(0.0002, [0.01, 0.006, 0.006], (days, 3))
    return pd.DataFrame(drawn, calendar(days), columns=FACTORS)


def write(path: Path, assets: int, days: int, alive: float = 1 / 3, seed: int = 1) -> int:
    """Daily excess returns of assets that live for a part of the time, sorted by asset and date; rows written."""
    rng, X = np.random.default_rng(seed), factors(days).to_numpy()
    dates = calendar(days).to_numpy().astype("datetime64[D]").astype(np.int32)
    schema = pa.schema([("asset", pa.string()), ("date", pa.date32()), ("excess_return", pa.float64())])
    rows = 0
    with pq.ParquetWriter(path, schema, use_dictionary=["asset", "date"]) as writer:
        for first in range(0, assets, 500):
            parts = []
            for number in range(first, min(first + 500, assets)):
                life = int(np.clip(rng.exponential(alive * days * 1.06), 30, days))
                born = int(rng.integers(0, days - life + 1))
                span = slice(born, born + life)
                own = X[span] @ rng.normal([1, 0.3, 0.2], 0.4) + rng.standard_t(5, life) * rng.uniform(0.01, 0.03)
                name = pa.DictionaryArray.from_arrays(pa.array(np.zeros(life, np.int32)), [f"A{number:06d}"])
                parts.append(pa.record_batch([name.cast(pa.string()), pa.array(dates[span]).cast(pa.date32()),
                                              pa.array(own)], schema=schema))  # fmt: skip
                rows += life
            writer.write_table(pa.Table.from_batches(parts), row_group_size=250_000)
    return rows
