"""Costs of equity by different methods side by side, and what they differ by."""

from __future__ import annotations

import textwrap
from collections.abc import Mapping
from dataclasses import dataclass
from typing import Final

import numpy as np
import pandas as pd

from ultrum.core.arguments import validate_arguments
from ultrum.core.presentation import WIDTH, MainTable, percent, table_text, true_minus
from ultrum.core.pricing.cost_of_equity_result import RISK_FREE, CostOfEquity
from ultrum.core.pricing.hierarchical_costs import HierarchicalCosts
from ultrum.core.pricing.implied_costs import ImpliedCosts
from ultrum.errors import EstimationError, UnitError, name_list, one_of

AnyCosts = CostOfEquity | HierarchicalCosts | ImpliedCosts
_ALL: Final = "whole"
_FLAT: Final = 1e-6  # a slope that no change of an input makes up for
_SMALL_BETA, _FLAT_BETA = 0.05, 1.0  # of a part that is the same for all


@dataclass(frozen=True, eq=False, repr=False)
class CostsSideBySide(MainTable):
    """Costs of equity of one company by several methods.

    Attributes
    ----------
    table : DataFrame
        By method: ``cost standard_error low high``, annual, and ``difference`` from the first.
    differences : DataFrame
        By method and part: by how much the part differs from that of the first method. Parts are the risk-free
        rate; for a factor in both, its ``beta`` and its ``premium`` at the mean of the other; a factor or
        additional premium in only one; for an implied cost the ``whole``. They sum to the difference.
    asset : str
    closes : mapping of str to str
        For methods without factors: which change of an input closes the difference, in a sentence.
    basis : mapping of str to str
        Basis of each method.
    """

    table: pd.DataFrame
    differences: pd.DataFrame
    asset: str
    closes: Mapping[str, str]
    basis: Mapping[str, str]

    def in_words(self) -> list[str]:
        """Each method against the first: the difference, and the parts that cause most of it.

        Returns
        -------
        list of str
            A sentence per method.
        """
        first = str(self.table.index[0])
        lines = []
        for method, parts in self.differences.groupby(level=0, sort=False):
            total = float(parts["difference"].sum())
            largest = parts["difference"].droplevel(0)
            named = [
                f"{part} {true_minus(percent(float(d), signed=True))}"
                for part, d in largest[largest.abs().sort_values(ascending=False).index].items()
                if abs(d) >= 0.00005
            ]
            side = "above" if total >= 0 else "below"
            where = f"{method} is {percent(abs(total))} percentage points {side} {first}"
            if _ALL in largest.index:
                lines.append(f"{where}. {self.closes[str(method)]}".strip())
            else:
                lines.append(f"{where}: {', '.join(named[:4]) if named else 'in no part'}.")
        return lines

    def __repr__(self) -> str:
        notes = [f"{method}: {basis}" for method, basis in self.basis.items()]
        words = [textwrap.fill(line, WIDTH) for line in [*self.in_words(), *notes]]
        return "\n".join([f"Cost of equity of {self.asset}", table_text(self.table), *words])


@validate_arguments
def compare_costs(costs: Mapping[str, AnyCosts], asset: str, *, level: float = 0.95) -> CostsSideBySide:
    """Costs of equity of one company by several methods, and by how much of which input they differ.

    Parameters
    ----------
    costs : mapping of str to result
        Results of :func:`ultrum.cost_of_equity`, :func:`ultrum.hierarchical_cost_of_equity` and
        :func:`ultrum.implied_cost_of_equity`, by the name of the method. The others are compared with the first.
    asset : str
        The company.
    level : float
        Of the intervals.

    Returns
    -------
    CostsSideBySide
        Costs, differences and their parts.

    Raises
    ------
    EstimationError
        If there are fewer than two methods, or one has no cost of the company.

    Examples
    --------
    >>> import ultrum as ul
    >>> panel = ul.practice.panel()
    >>> plain = ul.factor_betas(panel, ["market"])
    >>> costs = {name: ul.cost_of_equity(betas, premia={"market": 0.05}, risk_free=0.03)
    ...          for name, betas in {"CAPM": plain, "shrunk": ul.shrink_betas(plain)}.items()}
    >>> ul.compare_costs(costs, "BRTW").differences.round(4).index.tolist()
    [('shrunk', 'risk-free rate'), ('shrunk', 'market beta'), ('shrunk', 'market premium')]
    """
    if len(costs) < 2:
        raise EstimationError("compare_costs: one method; pass at least two by name.")
    rows, parts = {}, {}
    for name, cost in costs.items():
        if asset not in cost.value.index:
            raise EstimationError(
                f"compare_costs: '{name}' has no {asset}; {one_of(asset, list(cost.value.index))}"
            )
        if not np.isfinite(cost.value[asset]):
            raise EstimationError(f"compare_costs: '{name}' has no cost of {asset}. Leave the method out.")
        rows[name] = [float(cost.value[asset]), float(cost.standard_error[asset]), *_interval(cost, asset, level)]
        parts[name] = _parts_of(cost, asset)
    table = pd.DataFrame.from_dict(rows, orient="index", columns=["cost", "standard_error", "low", "high"])
    table["difference"] = table["cost"] - table["cost"].iloc[0]
    first = next(iter(costs))
    differences = {
        (name, part): value
        for name in list(costs)[1:]
        for part, value in _differences(parts[first], parts[name], float(table["difference"][name])).items()
    }
    listed = pd.Series(differences, name="difference").rename_axis(["method", "part"]).to_frame()
    return CostsSideBySide(
        table.rename_axis("method"),
        listed,
        asset,
        {name: _closing(costs, parts, asset, first, name) for name, cost in costs.items()},
        {name: _basis(cost) for name, cost in costs.items()},
    )


def _interval(cost: AnyCosts, asset: str, level: float) -> list[float]:
    """Bounds of the cost of a company."""
    if isinstance(cost, HierarchicalCosts):
        if level != cost.level:
            raise UnitError(
                f"compare_costs: the shrunk costs have {100 * cost.level:g} % intervals, not {100 * level:g} %. "
                f"Estimate them with level={level}."
            )
        return [float(cost.companies["low"][asset]), float(cost.companies["high"][asset])]
    bounds = cost.interval(level)
    return [float(bounds["low"][asset]), float(bounds["high"][asset])]


def _parts_of(cost: AnyCosts, asset: str) -> dict[str, tuple[float, float]] | None:
    """Beta and premium by factor; a flat part has a beta of one; none for an implied cost."""
    if isinstance(cost, ImpliedCosts):
        return None
    if isinstance(cost, HierarchicalCosts):
        return {
            RISK_FREE: (_FLAT_BETA, cost.risk_free),
            **{name: (_FLAT_BETA, value) for name, value in cost.add_ons.items()},
            **{str(f): (float(cost.loadings[str(f)][asset]), float(p)) for f, p in cost.premia.items()},
        }
    rows = cost.parts.loc[asset]
    return {
        str(part): (float(row["beta"]), float(row["premium"]))
        if np.isfinite(row["beta"])
        else (_FLAT_BETA, float(row["contribution"]))
        for part, row in rows.iterrows()
    }


def _differences(
    first: dict[str, tuple[float, float]] | None, other: dict[str, tuple[float, float]] | None, total: float
) -> dict[str, float]:
    """The other method less the first, by part."""
    if first is None or other is None:
        return {_ALL: total}
    out: dict[str, float] = {}
    for part in dict.fromkeys([*first, *other]):
        if part in first and part in other:
            (b0, p0), (b1, p1) = first[part], other[part]
            if b0 == b1 == _FLAT_BETA:
                out[part] = p1 - p0
            else:
                out[f"{part} beta"] = (b1 - b0) * (p0 + p1) / 2.0
                out[f"{part} premium"] = (p1 - p0) * (b0 + b1) / 2.0
        else:
            beta, price = other[part] if part in other else first[part]
            out[part] = beta * price if part in other else -beta * price
    rest = total - sum(out.values())
    return out if abs(rest) < 1e-4 else {**out, "simulation": rest}


def _closing(
    costs: Mapping[str, AnyCosts],
    parts: Mapping[str, dict[str, tuple[float, float]] | None],
    asset: str,
    first: str,
    other: str,
) -> str:
    """Changes of an input that make a cost from factors and an implied one equal, each alone, in words."""
    one, two = costs[first], costs[other]
    if isinstance(one, ImpliedCosts) and not isinstance(two, ImpliedCosts):
        implied, method = one, other
    elif isinstance(two, ImpliedCosts) and not isinstance(one, ImpliedCosts):
        implied, method = two, first
    else:
        return ""
    gap = float(implied.value[asset] - costs[method].value[asset])
    ways = []
    for name, digits, unit in (("long-run growth", 2, "points"), ("forecasts", 0, "%")):
        slope = float(implied.slopes[name][asset])
        if np.isfinite(slope) and abs(slope) > _FLAT:
            change = -gap / slope
            ways.append(f"{name} {percent(abs(change), digits)} {unit} {'lower' if change < 0 else 'higher'}")
    terms = {f: part for f, part in (parts[method] or {}).items() if part[0] != _FLAT_BETA}
    priced = [(f, beta, price) for f, (beta, price) in terms.items() if abs(beta) > _SMALL_BETA]
    for factor, beta, price in priced if len(priced) == 1 else []:
        new = percent(price + gap / beta)
        ways.append(f"a premium of {factor} of {new} % in {method} (now {percent(price)} %)")
    return f"Each of these alone closes the difference, to first order: {'; '.join(ways)}." if ways else ""


def _basis(cost: AnyCosts) -> str:
    """What a method rests on."""
    if isinstance(cost, CostOfEquity):
        return name_list([f"{part}: {words}" for part, words in cost.basis.items()])
    return cost.basis
