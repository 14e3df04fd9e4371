"""Bootstrap of costs of equity: blocks of periods, betas and premia estimated again in each draw."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Final

import numpy as np
import pandas as pd

from ultrum.core.array_types import Floats, Ints
from ultrum.core.pricing.premium import Premium, histories_of
from ultrum.core.regression.beta_table import BetaTable
from ultrum.core.regression.engine.bootstrap_draws import block_length, drawn_periods, row_counts
from ultrum.core.regression.engine.bootstrap_regression import drawn_coefficients
from ultrum.core.regression.fit import CONSTANT
from ultrum.core.time.gaps import time_positions

_AT_ONCE: Final = 1 << 22  # counts of rows held at a time


@dataclass(frozen=True)
class CostBootstrap:
    """The stationary block bootstrap of a cost of equity, done when its draws are wanted.

    Attributes
    ----------
    betas : BetaTable
    factors : sequence of str
    premia : mapping of str to Premium
        Those with a history are redrawn from it, from the very rows of the betas where both have the same
        rows; the others are drawn from a normal distribution with ``spread``.
    prices, spread : ndarray, shape (K,) and (K, K)
        Premia and their covariance.
    base, base_error : float
        Risk-free rate and add-ons, and their error.
    draws, seed : int
    """

    betas: BetaTable
    factors: Sequence[str]
    premia: Mapping[str, Premium]
    prices: Floats
    spread: Floats
    base: float
    base_error: float
    draws: int
    seed: int

    def costs(self) -> Floats:
        """Costs of equity of every draw, (draws, N)."""
        return _drawn_costs(**vars(self))


def _drawn_costs(
    betas: BetaTable,
    factors: Sequence[str],
    premia: Mapping[str, Premium],
    prices: Floats,
    spread: Floats,
    base: float,
    base_error: float,
    draws: int,
    seed: int,
) -> Floats:
    generator = np.random.default_rng(seed)
    design = betas.design.to_numpy(dtype=np.float64)
    whole = np.isfinite(design).all(axis=1)
    response = betas.response.to_numpy(dtype=np.float64)
    histories = {k: p.influence for k, p in premia.items() if p.influence is not None}
    rows = betas.design.index[whole]
    positions = time_positions(rows)
    shared = all(h.index.equals(rows) for h in histories.values())
    chunks = max(1, -(-draws * len(rows) // _AT_ONCE))
    costs = []
    for size in [len(part) for part in np.array_split(np.arange(draws), chunks)]:
        counts = _counts(design[whole], positions, size, generator)
        lam = _drawn_premia(factors, histories, prices, spread, size, generator, counts if shared else None)
        drawn = drawn_coefficients(design[whole], response[whole], counts, CONSTANT in betas.design)
        where = [int(w) for w in betas.design.columns.get_indexer(pd.Index(factors))]
        noise = base_error * generator.standard_normal((size, 1))
        costs.append(base + noise + sum(drawn[w].T * lam[:, [k]] for k, w in enumerate(where)))
    return np.concatenate(costs)


def _counts(block: Floats, positions: Ints, draws: int, generator: np.random.Generator) -> Floats:
    """How often each row is drawn; blocks long enough for the most persistent column."""
    moving = block[:, np.ptp(block, axis=0) > 0]
    drawn = drawn_periods(positions, draws, block_length(moving), generator)
    return row_counts(drawn, len(block))


def _drawn_premia(
    factors: Sequence[str],
    histories: Mapping[str, pd.Series],
    prices: Floats,
    spread: Floats,
    draws: int,
    generator: np.random.Generator,
    counts: Floats | None,
) -> Floats:
    """Premia of every draw, (draws, K)."""
    root = _root(spread)
    premia = prices + generator.standard_normal((draws, len(factors))) @ root.T
    if not histories:
        return np.asarray(premia)
    block, index = histories_of(list(histories.values()))
    if counts is None:
        counts = _counts(block, time_positions(index), draws, generator)
    for k, name in enumerate(factors):
        if name in histories:
            premia[:, k] = prices[k] + (counts - 1.0) @ block[:, list(histories).index(name)]
    return np.asarray(premia)


def _root(spread: Floats) -> Floats:
    values, vectors = np.linalg.eigh(spread)
    return np.asarray(vectors * np.sqrt(np.maximum(values, 0.0)))
