"""Whether betas identify premia, and errors that allow for a model that does not price the assets."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import replace
from typing import Literal

import numpy as np
import pandas as pd

from ultrum.core.array_types import Floats
from ultrum.core.displayed_numbers import decimals, p_equals, percent
from ultrum.core.panel.aligned_panel import Panel
from ultrum.core.pricing.two_pass_arrays import misspecification_robust, rank_test
from ultrum.core.pricing.two_pass_result import KINDS_IN_WORDS, WEAK, Balanced, TwoPass
from ultrum.core.regression.inference import TestResult
from ultrum.core.time.gaps import time_positions
from ultrum.errors import EstimationError, listed, warn_user

TwoPassErrors = Literal["fama_macbeth", "newey_west", "shanken", "bootstrap", "misspecification"]


def balanced(panel: Panel, names: Sequence[str]) -> Balanced | None:
    """Excess returns and factors of the assets that have every period with all factors; none if too few."""
    F = panel.factors[list(names)].to_numpy(dtype=np.float64)
    whole = np.isfinite(F).all(axis=1)
    returns = panel.assets.to_numpy(dtype=np.float64) - panel.risk_free.to_numpy()[:, None]
    some = np.isfinite(returns).sum(axis=1) > returns.shape[1] / 2  # not the rows before the first returns
    rows = whole & some
    kept = np.isfinite(returns[rows]).all(axis=0)
    enough = rows.sum() > kept.sum() + len(names) + 1 and kept.sum() > len(names) + 1
    if not enough:
        return None
    assets = [a for a, k in zip(panel.asset_names, kept, strict=True) if k]
    return Balanced(returns[np.ix_(rows, kept)], F[rows], assets, panel.assets.index[rows])


def refuse_unbalanced(panel: Panel, data: Balanced | None, constant: bool, names: Sequence[str]) -> None:
    """Refuse misspecification-robust errors where they are not defined."""
    if not constant:
        raise EstimationError(
            "errors='misspecification' and weighting='gls' are for cross-sections with a constant; "
            "set constant=True."
        )
    if data is None:
        raise EstimationError(
            "errors='misspecification' and weighting='gls' need full-sample betas, no characteristics, more "
            "periods than assets, and assets with whole histories."
        )
    returns = panel.assets.to_numpy(dtype=np.float64)
    some = np.isfinite(returns).any(axis=1) & np.isfinite(panel.factors.loc[:, names]).all(axis=1)
    own = pd.DataFrame(np.isfinite(returns), columns=panel.asset_names)[some.to_numpy()].all()
    absent = [a for a in panel.asset_names if not own[a]]
    if absent:
        raise EstimationError(
            "errors='misspecification' and weighting='gls' need assets with whole histories; "
            f"{listed(absent)} lack periods. "
            "Align the others alone: align(assets=returns.select([...]), ...)."
        )


def identified(made: TwoPass, data: Balanced | None, assets: int) -> TwoPass:
    """The result with the rank test of its betas; a warning where they do not identify the premia."""
    if data is None:
        why = "needs some assets with whole histories, and more periods than assets"
        return replace(made, basis=f"{made.basis}; identification not tested: that {why}")
    test = rank_test(data.returns, data.factors)
    factors = list(made.premia.index[-data.factors.shape[1] :])
    main = factors[int(np.abs(test.weakest).argmax())]
    some = f"; {len(data.assets)} of {assets} assets, those with all {len(data.index)} periods"
    result = TestResult(
        test.statistic, f"F({test.df[0]:g}, {test.df[1]:g})", test.df, test.p_value,
        f"weakest in {main}{some}", "betas do not identify every premium",
    )  # fmt: skip
    if test.p_value > WEAK:
        warn_user(
            f"The betas hardly differ between assets for some combination of factors, mostly {main} "
            f"(rank test {p_equals(test.p_value)}): its premium is not identified, and t values mislead. "
            "Leave the factor out, or read robust_sets()."
        )
    return replace(made, identification=result, balanced=data)


def with_robust_errors(made: TwoPass, data: Balanced, gls: bool, lags: int) -> TwoPass:
    """The result with errors of Kan, Robotti and Shanken, and with GLS premia where they are asked for."""
    positions = time_positions(data.index)
    found = misspecification_robust(data.returns, data.factors, gls, lags, positions)
    index = made.premia.index
    error = np.sqrt(np.diag(found.covariance))
    if gls:
        made = replace(
            made,
            errors=pd.DataFrame(np.nan, index, made.errors.columns),
            slopes=pd.DataFrame(found.slopes, data.index, index),
            pricing=made.pricing.assign(
                predicted=found.predicted, error=made.pricing["realised"] - found.predicted
            ),
            bias=made.bias * np.nan,
        )
    fit = f"R² {decimals(found.r2)} (standard error {decimals(found.r2_error)})"
    pricing_error = float(np.sqrt(np.mean(made.pricing["error"] ** 2)))
    reworded = {
        "t values on": f"t values on {KINDS_IN_WORDS['misspecification']} errors",
        "root mean": f"root mean square pricing error {percent(pricing_error, 3)} % a period",
    }
    basis = "; ".join(
        next((new for old, new in reworded.items() if part.startswith(old)), part)
        for part in made.basis.split("; ")
    )
    words = f"{'GLS' if gls else 'OLS'} cross-section; {fit}"
    return replace(
        made,
        premia=pd.Series(found.premia, index),
        covariance=pd.DataFrame(found.covariance, index, index),
        errors=made.errors.assign(misspecification=error),
        kind="misspecification",
        r2=found.r2,
        r2_error=found.r2_error,
        basis=f"{basis}; {words}",
    )


def with_errors(made: TwoPass, errors: str, covariances: Mapping[str, Floats]) -> TwoPass:
    """The result with another of the kinds that were estimated."""
    if errors not in covariances:
        there = ", ".join(covariances)
        raise EstimationError(
            f"errors='{errors}' is not possible for these betas and this panel; possible are {there}."
        )
    index = made.premia.index
    parts = [
        f"t values on {KINDS_IN_WORDS[errors]} errors" if p.startswith("t values on") else p
        for p in made.basis.split("; ")
    ]
    return replace(
        made,
        covariance=pd.DataFrame(covariances[errors], index, index),
        kind=errors,
        basis="; ".join(parts),
    )
