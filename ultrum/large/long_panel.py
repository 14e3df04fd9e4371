"""A panel whose returns stay on disk: aligned and estimated block by block."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace
from pathlib import Path
from typing import Any, ClassVar, Final

import pandas as pd
import pyarrow as pa

from ultrum.core.arguments import LargeData
from ultrum.core.panel.aligned_panel import Panel
from ultrum.core.panel.alignment import align as align_in_memory
from ultrum.core.presentation import quantity
from ultrum.core.series.metadata import Metadata
from ultrum.core.series.time_series import SeriesTable, TimeSeries
from ultrum.core.time.frequency import Frequency
from ultrum.core.time.period_labels_and_relative_dates import span_of
from ultrum.errors import TableError
from ultrum.large.long_files import Block, LongWriter, Place, ends_of, facts_of, names_at, rows_of
from ultrum.large.long_table import WIDE_BLOCK, Layout, LongTable, To, require_output, through_blocks, wide_needs

EXCESS: Final = "excess.parquet"
MISSING_LOG: Final = "missing_log.parquet"


@dataclass(frozen=True, eq=False, repr=False)
class LongPanel(LargeData):
    """Aligned panel of more assets than fit into memory.

    Attributes
    ----------
    excess : LongTable
        Returns less the risk-free return of the same period.
    missing_log : path
        Parquet file with one row for each missing value of each asset: ``asset date cause``. A value that was
        stale when returns were written counts as a gap. Factors and conditioning variables have their log in
        ``small``.
    small : Panel
        Factors, conditioning variables and the risk-free return, without assets.
    coverage : DataFrame
        By series, as in :class:`ultrum.Panel`.
    warnings : tuple of str
    """

    kind_in_words: ClassVar[str] = "a LongPanel, made by align of a LongTable"
    excess: LongTable
    missing_log: Path | str
    small: Panel
    coverage: pd.DataFrame
    warnings: tuple[str, ...]

    @property
    def factors(self) -> pd.DataFrame:
        """Shape (T, K)."""
        return self.small.factors

    @property
    def factor_table(self) -> SeriesTable:
        """The factors with metadata."""
        return self.small.factor_table

    @property
    def conditions(self) -> pd.DataFrame:
        """Shape (T, M)."""
        return self.small.conditions

    @property
    def risk_free(self) -> pd.Series:
        """Risk-free return of each period."""
        return self.small.risk_free

    @property
    def frequency(self) -> Frequency:
        """Of the rows."""
        return self.small.frequency

    @property
    def asset_names(self) -> list[str]:
        """Names of the assets with a return."""
        return self.excess.assets

    def read(self, assets: Sequence[str]) -> Panel:
        """The panel of some assets, in memory.

        Parameters
        ----------
        assets : sequence of str
            Names of the assets, in the given order.

        Returns
        -------
        Panel
            Panel of these assets.
        """
        table = self.excess.read(list(assets)).values.reindex(self.risk_free.index)
        rate = self.risk_free.to_numpy()[:, None]
        facts_of_file = self.excess.facts
        facts = {
            **facts_of_file,
            "excess_of": "",
            "trail": facts_of_file.get("trail", ())[:-1],
        }  # without "excess"
        metadata_list = {a: Metadata(name=a, frequency=self.frequency, **facts) for a in map(str, assets)}
        return replace(
            self.small,
            assets=table + rate,
            coverage=self.coverage.loc[[*assets, *self.small.coverage.index]],
            metadata={**self.small.metadata, **metadata_list},
        )

    def __repr__(self) -> str:
        small = self.small
        return (
            f"Panel on disk: {len(self.risk_free)} {small.frequency.name} rows, "
            f"{span_of(self.risk_free.index)}, {small.currency}, {self.excess.rows:,} returns of "
            f"{quantity(len(self.asset_names), 'asset')}\nfactors {', '.join(map(str, self.factors)) or 'none'}, "
            f"conditions {', '.join(map(str, self.conditions)) or 'none'}; risk-free {self.risk_free.name}"
            + "".join(f"\nwarning: {text}" for text in self.warnings)
        )


def align(assets: LongTable, *, to: To, **options: Any) -> LongPanel:
    """Align each block with the same factors; write excess returns and the log of missing data to a folder."""
    if not isinstance(options.get("risk_free"), TimeSeries):
        raise TableError("align of a LongTable needs risk_free as a series of returns.")
    folder = Place.of(require_output(to, "align"))
    folder.system.create_dir(folder.path, recursive=True)
    job = _Aligning(assets.layout, options)
    needs = 2 * wide_needs(assets)
    parts: list[_Aligned] = []
    with (
        LongWriter(folder.child(EXCESS), "excess_return", str(Frequency.parse(options["frequency"]))) as excess,
        LongWriter(folder.child(MISSING_LOG), "", "") as missing_log,
    ):
        for part in through_blocks(assets, job, assets.blocks(WIDE_BLOCK), needs):
            excess.write(part.excess, part.facts)
            missing_log.write(part.missing_log)
            parts.append(replace(part, excess=None, missing_log=None))
    small, log = parts[0].small, folder.child(MISSING_LOG)
    return LongPanel(
        excess=assets.beside(folder.child(EXCESS).address),
        missing_log=Path(log.path) if log.is_local else log.address,
        small=small,
        coverage=pd.concat([*(p.coverage for p in parts), small.coverage]),
        warnings=tuple(dict.fromkeys(w for p in parts for w in p.warnings)),
    )


@dataclass(frozen=True)
class _Aligned:
    """An aligned block of assets, as rows, and the rest of the panel."""

    excess: pa.Table
    missing_log: pa.Table
    coverage: pd.DataFrame
    facts: Mapping[str, object]
    small: Panel
    warnings: tuple[str, ...]


@dataclass(frozen=True)
class _Aligning:
    """Processes one block; can be pickled."""

    layout: Layout
    options: Mapping[str, Any]

    def __call__(self, block: Block) -> _Aligned:
        panel = align_in_memory(assets=self.layout.table(block), **self.options)
        excess = panel.excess
        of_block = panel.missing_log["series"].isin(block.names)
        small = replace(
            panel,
            assets=panel.assets.iloc[:, :0],
            coverage=panel.coverage.drop(block.names),
            missing_log=panel.missing_log[~of_block],
            metadata={n: a for n, a in panel.metadata.items() if n not in set(block.names)},
        )
        return _Aligned(
            rows_of(excess, "excess_return"),
            _log_rows(panel.missing_log[of_block], block.names),
            panel.coverage.loc[block.names],
            facts_of(excess.metadata[0]),
            small,
            panel.warnings,
        )


def _log_rows(missing_log: pd.DataFrame, names: list[str]) -> pa.Table:
    periods = missing_log["period"].array
    cause = missing_log["cause"].astype("category")
    place = pd.Index(names).get_indexer(pd.Index(missing_log["series"].astype(object)))
    return pa.table(
        {
            "asset": names_at(names, place),
            "date": pa.array(ends_of(pd.Index(periods))),
            "cause": names_at(list(cause.cat.categories), cause.cat.codes.to_numpy()),
        }
    )
