"""The ``sort`` command: portfolios and factors sorted from a file with a row per asset and date."""

from __future__ import annotations

import textwrap
from pathlib import Path
from typing import TYPE_CHECKING, Any, Final, Literal

import click

from ultrum.cli.options import (
    AT,
    FREQUENCY,
    FROM_SOURCES,
    JSON,
    OUTPUT,
    PICTURE,
    READ,
    PictureStyle,
    local_files,
    picture_options,
    refuse_inputs,
    tables_of,
)
from ultrum.cli.terminal_output import echo
from ultrum.core.presentation import WIDTH, decimals, p_equals, p_in_words, percent

if TYPE_CHECKING:
    from collections.abc import Sequence

    import pandas as pd
    from matplotlib.axes import Axes

    from ultrum.core.portfolios.portfolio_table_and_monotonicity import PortfolioTable
    from ultrum.core.portfolios.sorted_portfolios import SortedPortfolios
    from ultrum.core.series.time_series import TimeSeries
    from ultrum.sources.table.reading_result import Decision

_MOST: Final = 3
_EXAMPLES: Final = "\b\nExamples:\n  " + "\n  ".join(
    (
        "ultrum sort stocks.csv --by book_to_market --factors factors.csv",
        "ultrum sort stocks.csv --by market_value=2 --by book_to_market=0.3,0.7 --weights market_value \\",
        "  --formation A-JUN --spread 'book_to_market high - book_to_market low' --csv value.csv",
    )
)


class Characteristic(click.ParamType[tuple[str, int | tuple[float, ...]]]):
    """A column with its groups: COLUMN, COLUMN=5 or COLUMN=0.3,0.7."""

    name = "column"

    def convert(
        self, value: object, param: click.Parameter | None, ctx: click.Context | None
    ) -> tuple[str, int | tuple[float, ...]]:
        """The column, and a number of groups or fractions."""
        column, sign, groups = str(value).rpartition("=")
        if not sign:
            return str(value), 5
        try:
            parts = [float(part) for part in groups.split(",")]
        except ValueError:
            self.fail(f"'{value}': write COLUMN=5 for five groups, or COLUMN=0.3,0.7.", param, ctx)
        if len(parts) == 1 and parts[0] >= 1 and parts[0].is_integer():
            return column, int(parts[0])
        return column, tuple(parts)


@click.command(epilog=_EXAMPLES)
@click.argument("table")
@click.option(
    "--by",
    "by",
    type=Characteristic(),
    multiple=True,
    required=True,
    metavar="COLUMN[=GROUPS]",
    help="Characteristic: a number of groups (5 by default) or fractions such as 0.3,0.7; up to three times.",
)
@click.option("--returns", "returns_of", default="", metavar="COLUMN", help="Column of returns or prices.")
@click.option("--weights", default="", metavar="COLUMN", help="Column of market values; equal by default.")
@click.option(
    "--formation", default="", callback=FREQUENCY, help="Form portfolios at the end of these periods: Q, A-JUN."
)
@click.option("--hold-for", default="", metavar="PERIODS", help="Holding period: 6, or P1Y; longer ones overlap.")
@click.option(
    "--order",
    type=click.Choice(("independent", "dependent")),
    default="independent",
    show_default=True,
    help="Dependent sorts divide each group of the characteristics before.",
)
@click.option("--cap", type=click.FloatRange(0.0, 1.0, min_open=True), help="Maximum weight of an asset.")
@click.option("--min-assets", type=click.IntRange(1), default=1, help="Least number of assets of a portfolio.")
@click.option("--members", default="", metavar="FILE", help="Table of members: asset, entry, exit.")
@click.option("--delistings", default="", metavar="FILE", help="Table of delisting returns: asset, date, return.")
@click.option("--prices", default="", metavar="COLUMN", help="Column of prices, for --min-price.")
@click.option(
    "--min-price", type=click.FloatRange(0.0, min_open=True), help="Leave out assets below it at formation."
)
@click.option(
    "--breakpoints-from", default="", metavar="COLUMN", help="Column of ones and zeros: a one sets breakpoints."
)
@click.option("--rebalance", is_flag=True, help="Back to the weights at formation in each period.")
@click.option(
    "--spread",
    "spreads",
    multiple=True,
    metavar="FORMULA",
    help="Factor: 'value high - value low'; by default high less low of each characteristic.",
)
@click.option(
    "--trading-cost", type=click.FloatRange(0.0, 0.5), default=0.0, help="Of a trade, as a share of its amount."
)
@click.option("--factors", default="", help="File of factor returns with a risk-free return: FILE or address.")
@click.option("--factor", "more", multiple=True, metavar="COLUMN", help="Regress on this column as well.")
@click.option("--errors", default="hac", show_default=True, help="Kind of standard errors; hac is Newey–West.")
@click.option("--picture", type=PICTURE, help="Draw the result to this file: PNG, SVG or PDF.")
@click.option("--csv", "csv_file", type=OUTPUT, help="Write returns of portfolios and spreads to this CSV file.")
@READ
@FROM_SOURCES
@AT
@JSON
@picture_options
def sort(
    table: str,
    by: tuple[tuple[str, int | tuple[float, ...]], ...],
    returns_of: str,
    weights: str,
    formation: str,
    hold_for: str,
    order: Literal["independent", "dependent"],
    cap: float | None,
    min_assets: int,
    members: str,
    delistings: str,
    prices: str,
    min_price: float | None,
    breakpoints_from: str,
    rebalance: bool,
    spreads: tuple[str, ...],
    trading_cost: float,
    factors: str,
    more: tuple[str, ...],
    errors: str,
    picture: Path | None,
    csv_file: Path | None,
    reading: tuple[str, ...],
    as_json: bool,
    vault: Path | None,
    style: PictureStyle,
    **where: Any,
) -> None:
    """Sort the assets of TABLE into portfolios on characteristics, and make factors of them.

    TABLE has a row per asset and date, with a column of returns or prices and columns of characteristics known
    at that date. A portfolio of a period is formed at the end of an earlier one. With --factors the portfolios'
    mean excess returns, alphas and exposures are estimated.
    """
    _check_options(by, more, factors, min_price, prices)
    texts = tuple(text for text in (table, factors, members, delistings) if text)
    files = local_files(texts, reading)
    refuse_inputs([picture, csv_file], texts)
    with tables_of(vault, files, texts, kept=False, **where) as desk:
        from ultrum.core.portfolios.factors_from_sorts import factor_from_portfolios
        from ultrum.sources.table.factor_columns import factor_table
        from ultrum.study.asset_returns_and_sorts import sort_file, table_of_sort

        portfolios, found = sort_file(
            desk,
            files.address(table),
            dict(by),
            returns_column=returns_of,
            weights_column=weights,
            formation=formation,
            hold_for=hold_for or None,
            order=order,
            cap=cap,
            min_assets=min_assets,
            rebalance=rebalance,
            prices_column=prices,
            min_price=min_price,
            subset_column=breakpoints_from,
            members=files.address(members),
            delistings=files.address(delistings),
        )
        texts_of = {files.address(text): text for text in texts}
        decisions = [(texts_of[address], one) for address, one in found]
        formulas = list(dict.fromkeys(spreads)) or [f"{name} high - {name} low" for name, _ in by]
        made, given = [factor_from_portfolios(portfolios, f, trading_cost=trading_cost) for f in formulas], None
        if factors:
            columns = factor_table(desk.table(files.address(factors)))
            decisions += [(factors, one) for one in columns.decisions]
            given = table_of_sort(portfolios, columns, more, formulas, errors, trading_cost)
    _draw(portfolios, given, formulas[0], trading_cost, picture, style)
    _write(portfolios, made, csv_file)
    show = _print_json if as_json else _print
    show(portfolios, made, given, decisions, errors, trading_cost)


def _check_options(
    by: tuple[tuple[str, int | tuple[float, ...]], ...],
    more: tuple[str, ...],
    factors: str,
    min_price: float | None,
    prices: str,
) -> None:
    """Refuse options that need each other."""
    if len(by) > _MOST or len({name for name, _ in by}) < len(by):
        raise click.UsageError(f"--by takes up to {_MOST} different columns.")
    if more and not factors:
        raise click.UsageError("--factor needs --factors.")
    if (min_price is None) == bool(prices):
        raise click.UsageError("--min-price and --prices need each other.")


def _means(made: Sequence[TimeSeries], errors: str) -> pd.DataFrame:
    """Mean, standard error, t and p of each spread, per period."""
    import pandas as pd

    from ultrum.core.portfolios.portfolio_table_and_monotonicity import mean_returns
    from ultrum.core.regression.inputs import CONSTANT

    fit = mean_returns(pd.DataFrame({one.name: one.to_pandas() for one in made}), errors)
    columns = (fit.coefficients, fit.standard_errors, fit.t_values, fit.p_values)
    named = zip(("mean", "standard_error", "t", "p"), columns, strict=True)
    return pd.DataFrame({name: frame[CONSTANT] for name, frame in named} | {"nobs": fit.nobs})


def _print(
    portfolios: SortedPortfolios,
    made: Sequence[TimeSeries],
    given: PortfolioTable | None,
    decisions: Sequence[tuple[str, Decision]],
    errors: str,
    trading_cost: float,
) -> None:
    """Print the portfolios, spreads, models and decisions."""
    import pandas as pd

    from ultrum.cli import terminal_output

    noun = portfolios.returns.frequency.noun
    frame = portfolios.to_frame()
    columns = {
        "portfolio": portfolios.names,
        f"mean return, % per {noun}": [percent(v) for v in frame["mean"]],
        "s.d., %": [percent(v) for v in frame["std"]],
        "assets": [decimals(v, 1) for v in frame["assets"]],
        "turnover, %": [percent(v, 1) for v in frame["turnover"]],
        **{name: [f"{v:.4g}".replace("nan", "—") for v in frame[name]] for name in portfolios.groups},
    }
    terminal_output.table(pd.DataFrame(columns))
    means = _means(made, errors)
    words = f", after costs of {percent(trading_cost)} % per trade" if trading_cost else ""
    pairs = zip(means["mean"], means["standard_error"], strict=True)
    columns = {
        f"spread{words}": list(means.index),
        f"mean, % per {noun}": [f"{percent(mean)} ({percent(error)})" for mean, error in pairs],
        "t": [decimals(v) for v in means["t"]],
        "p": [p_in_words(v) for v in means["p"]],
        f"{noun}s": [f"{v:.0f}" for v in means["nobs"]],
    }
    terminal_output.table(pd.DataFrame(columns))
    if given is not None:
        _print_models(given)
    echo(textwrap.fill(portfolios.in_percent, WIDTH))
    about = [(place, one.what, one.chosen, one.certainty) for place, one in decisions]
    terminal_output.table(pd.DataFrame(about, columns=["file", "what", "chosen", "certainty"]))


def _print_models(given: PortfolioTable) -> None:
    """Alphas and exposures of each model, and the joint test."""
    import pandas as pd

    from ultrum.cli import terminal_output

    for name, fit in given.models.items():
        constant, *slopes = fit.coefficients.columns
        rows = pd.DataFrame({"portfolio": list(fit.coefficients.index)})
        errors = zip(fit.coefficients[constant], fit.standard_errors[constant], strict=True)
        rows[f"alpha, % per {given.noun}"] = [f"{percent(v)} ({percent(e)})" for v, e in errors]
        rows["t"] = [decimals(v) for v in given.alpha_t(name)]
        for term in slopes:
            rows[str(term)] = [decimals(v) for v in fit.coefficients[term]]
        rows["R²"] = [decimals(v) for v in fit.r2]
        terminal_output.table(rows, f"Model: {name}")
        if name in given.untested:
            echo(f"Joint test of alphas not done: {given.untested[name]}")
            continue
        test = given.joint[name]
        echo(f"{test.basis.partition(';')[0]}: {decimals(test.statistic)}, {p_equals(test.p_value)}")


def _print_json(
    portfolios: SortedPortfolios,
    made: Sequence[TimeSeries],
    given: PortfolioTable | None,
    decisions: Sequence[tuple[str, Decision]],
    errors: str,
    trading_cost: float,
) -> None:
    """Print the portfolios, spreads and models as JSON, in decimals."""
    from ultrum.cli import terminal_output

    means = _means(made, errors)
    frame = portfolios.to_frame().rename(columns={"std": "standard_deviation"})
    plain = ["mean", "standard_deviation", "assets", "turnover"]
    of_groups = frame[list(portfolios.groups)]
    answer: dict[str, object] = {
        "basis": portfolios.basis,
        "portfolios": [
            {"portfolio": name, **_row(frame[plain], name), "characteristics": _row(of_groups, name)}
            for name in portfolios.names
        ],
        "spreads": [
            {
                "formula": name,
                **_row(means, name),
                "nobs": int(means.loc[name, "nobs"]),
                "trading_cost": trading_cost,
            }
            for name in means.index
        ],
        "left_out": {str(k): int(v) for k, v in portfolios.left_out["reason"].value_counts().items() if v},
        "sold": len(portfolios.sold),
        "decisions": [{"address": place, **vars(one)} for place, one in decisions],
    }
    if given is not None:
        answer["models"] = [
            {
                "model": name,
                "coefficients": {str(p): _row(fit.coefficients, p) for p in fit.coefficients.index},
                "standard_errors": {str(p): _row(fit.standard_errors, p) for p in fit.standard_errors.index},
                **_joint(given, name),
            }
            for name, fit in given.models.items()
        ]
    terminal_output.as_json(answer)


def _joint(given: PortfolioTable, name: str) -> dict[str, object]:
    """The joint test of a model, or why there is none."""
    if name in given.untested:
        return {"joint_statistic": None, "joint_p": None, "not_tested": given.untested[name]}
    return {"joint_statistic": given.joint[name].statistic, "joint_p": given.joint[name].p_value}


def _row(frame: pd.DataFrame, label: object) -> dict[str, float]:
    """A row of a table by column."""
    return {
        str(name): float(value)
        for name, value in zip(frame.columns, frame.loc[[label]].to_numpy()[0], strict=True)
    }


def _write(portfolios: SortedPortfolios, made: Sequence[TimeSeries], csv_file: Path | None) -> None:
    """Returns of the portfolios and spreads, a column each, with their metadata beside the file."""
    if csv_file is None:
        return
    from ultrum.core.series.time_series import SeriesTable
    from ultrum.report.table_files import save

    save(SeriesTable.of([*(portfolios.returns[name] for name in portfolios.names), *made]), csv_file)
    echo(f"written: {csv_file}", err=True)


def _draw(
    portfolios: SortedPortfolios,
    given: PortfolioTable | None,
    formula: str,
    trading_cost: float,
    picture: Path | None,
    style: PictureStyle,
) -> None:
    """Means and alphas with a factor file, a grid of a double sort, otherwise the first spread."""
    if picture is None:
        return
    from ultrum.report import figures

    def _drawn() -> Axes:
        if given is not None:
            return figures.portfolio_means(given)
        if len(portfolios.groups) > 1:
            return figures.double_sort(portfolios)
        return figures.cumulative_spread(portfolios, formula, trading_cost=trading_cost)[0]

    style.write(_drawn, picture)
