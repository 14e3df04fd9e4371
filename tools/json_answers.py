"""The JSON that each command prints; docs/commands.md and docs/answers.schema.json are generated from it.

Keys may be added; none is renamed, removed or given another meaning within a major version. Rates, returns and
shares are decimals, periods are SDMX names, instants are UTC, and a number that is missing is null.
"""

from typing import Any, Final, NotRequired

from typing_extensions import TypedDict


class StudyWarning(TypedDict):
    """What a reader must know, and of whom."""

    subject: str
    text: str


class RevisedCells(TypedDict):
    """Cells of a column of a revised download that differ, and the largest change."""

    download: str
    column: str
    cells: int
    first: str
    last: str
    at: str
    before: str
    after: str


class RunAnswer(TypedDict):
    """``ultrum run`` and ``ultrum demo``: the answer of a study and where its files are.

    A study without a cost of equity has no ``cost_of_equity`` and what belongs to it.
    """

    title: str
    company: str
    cost_of_equity: NotRequired[float]
    low: NotRequired[float]
    high: NotRequired[float]
    level: NotRequired[float]
    standard_error: NotRequired[float]
    risk_free: NotRequired[float]
    coefficients: dict[str, float]
    standard_errors: dict[str, float]
    rows: int
    dropped: dict[str, int]
    warnings: list[StudyWarning]
    run: str
    specifications: int
    places: dict[str, str]
    revised: NotRequired[list[str]]
    cells_revised: NotRequired[list[RevisedCells]]
    settings_changed: NotRequired[list[str]]
    numbers_moved: NotRequired[int]
    numbers_added: NotRequired[int]
    numbers_removed: NotRequired[int]


class TrailAnswer(TypedDict):
    """``ultrum trail``: a number, stage or download, and what it was made of."""

    name: str
    value: NotRequired[float]
    settings: NotRequired[Any]
    gives: NotRequired[str]
    retrieved: NotRequired[str]
    imported: NotRequired[bool]
    command: NotRequired[str]
    parts: NotRequired[list["TrailAnswer"]]


class FoundSeries(TypedDict):
    """``ultrum find``: a series that has the words."""

    address: str
    title: str
    frequency: str
    flow: NotRequired[str]
    topic: NotRequired[str]
    region: NotRequired[str]
    currency: NotRequired[str]


class FoundPlace(TypedDict):
    """``ultrum find --walk``: a place in the catalogue and how many series are below it."""

    name: str
    kind: str
    series: int


class PulledSeries(TypedDict):
    """``ultrum pull``: a series and what became of it: new, same, longer, revised, read in part or failed."""

    address: str
    title: str
    frequency: str
    status: str
    first: str
    last: str
    values: int
    reason: str


class Spell(TypedDict):
    """A stretch of time that meets a condition."""

    start: str
    end: str
    length: int
    extreme_distance: float | None
    extreme_date: str
    open: bool


class LookAnswer(TypedDict):
    """``ultrum look``: facts of a series in words, and its values by period."""

    facts: dict[str, str]
    values: dict[str, float | None]
    spells: NotRequired[list[Spell]]


class Revision(TypedDict):
    """``ultrum look --revised``: a value that is new, gone or revised."""

    period: str
    before: float | None
    after: float | None
    change: float | None
    kind: str


class AssetRisk(TypedDict):
    """Risk and return of one asset."""

    asset: str
    income: str
    mean: float | None
    mean_log: NotRequired[float | None]
    geometric: float | None
    volatility: float | None
    variance: float | None
    std: float | None
    sharpe_ratio: float | None
    sharpe_se: float | None
    skewness: float | None
    kurtosis: float | None
    worst: float | None
    worst_period: str | None
    max_drawdown: float | None
    positive: float | None
    periods: int
    first: str | None
    last: str | None


class WorkingStep(TypedDict):
    """A step of workings: an input, or a number that follows by its formula."""

    step: str
    name: str
    formula: str
    value: float | None


class WorkingsAnswer(TypedDict):
    """The steps from inputs to a number."""

    title: str
    steps: list[WorkingStep]


class ReturnsAnswer(TypedDict):
    """``ultrum look --returns``: risk and return of each asset."""

    basis: str
    assets: list[AssetRisk]
    workings: NotRequired[WorkingsAnswer]


class SeriesInFile(TypedDict):
    """A series that a file holds."""

    series: str
    frequency: str
    unit: str
    first: str
    last: str
    values: int
    gaps: str


class ReadingDecision(TypedDict):
    """What the reader of tables decided, and how sure it was."""

    what: str
    chosen: str
    alternatives: str
    certainty: str
    line: int


class FileDecision(ReadingDecision):
    """What was decided about a file of prices or factors."""

    address: str


class Coefficient(TypedDict):
    """A coefficient of a regression, with its error and 95 % interval."""

    term: str
    coefficient: float | None
    standard_error: float | None
    t: float | None
    p: float | None
    low: float | None
    high: float | None


class AssetRegression(TypedDict):
    """The regression of one asset."""

    asset: str
    terms: list[Coefficient]
    r2: float | None
    rows: int
    first: str
    last: str
    dropped: dict[str, int]


class AssetCost(TypedDict):
    """The cost of equity of one asset, a year, with its 95 % interval."""

    asset: str
    cost_of_equity: float | None
    standard_error: float | None
    low: float | None
    high: float | None


class EstimateAnswer(TypedDict):
    """``ultrum estimate``: the regression of each asset, and what was decided about the files."""

    basis: str
    assets: list[AssetRegression]
    decisions: list[FileDecision]
    unfinished: dict[str, list[str]]
    warnings: list[StudyWarning]
    rolling: NotRequired[dict[str, dict[str, float | None]]]
    costs_of_equity: NotRequired[list[AssetCost]]
    workings: NotRequired[list[WorkingsAnswer]]


class RejectedRow(TypedDict):
    """A row that was not taken, and why."""

    line: int
    text: str
    reason: str


class LinesOfOneClass(TypedDict):
    """Lines of a file with one class: title, header, row, note and so on."""

    what: str
    first: int
    last: int
    lines: int
    place: str


class CellsOfOneColumn(TypedDict):
    """What the cells of a column are: date, value, name, unit, status or text."""

    column: str
    what: str
    used: int
    missing: int
    rejected: int


class FileAnswer(TypedDict):
    """``ultrum look FILE``: the series of a table with their values, and how it was read."""

    series: list[SeriesInFile]
    values: dict[str, dict[str, float | None]]
    decisions: list[ReadingDecision]
    rejected: list[RejectedRow]
    account: list[LinesOfOneClass]
    columns: list[CellsOfOneColumn]
    spells: NotRequired[list[Spell]]


class KeptDownload(TypedDict):
    """A download in the vault."""

    address: str
    retrieved: str
    bytes: int
    checksum: str
    imported: bool


class VaultSize(TypedDict):
    """How much a vault holds."""

    addresses: int
    downloads: int
    payloads: int
    bytes: int


class VaultAnswer(TypedDict):
    """``ultrum vault list``: the downloads that fit, and the size of the whole vault."""

    downloads: list[KeptDownload]
    size: VaultSize


class SortedPortfolio(TypedDict):
    """A portfolio: mean and standard deviation of its return per period, assets, turnover, mean characteristics."""

    portfolio: str
    mean: float | None
    standard_deviation: float | None
    assets: float | None
    turnover: float | None
    characteristics: dict[str, float | None]


class SortedSpread(TypedDict):
    """A factor from sorted portfolios: its mean return per period."""

    formula: str
    mean: float | None
    standard_error: float | None
    t: float | None
    p: float | None
    nobs: int
    trading_cost: float


class PortfolioModel(TypedDict):
    """Regressions of portfolios and spreads on the factors of a model, and the joint test of zero alphas."""

    model: str
    coefficients: dict[str, dict[str, float | None]]
    standard_errors: dict[str, dict[str, float | None]]
    joint_statistic: float | None
    joint_p: float | None
    not_tested: NotRequired[str]


class SortAnswer(TypedDict):
    """``ultrum sort``: portfolios, spreads, and how many assets were left out for which reason."""

    basis: str
    portfolios: list[SortedPortfolio]
    spreads: list[SortedSpread]
    left_out: dict[str, int]
    sold: int
    decisions: list[FileDecision]
    models: NotRequired[list[PortfolioModel]]


ANSWERS: Final[dict[str, Any]] = {
    "demo": RunAnswer,
    "run": RunAnswer,
    "estimate": EstimateAnswer,
    "sort": SortAnswer,
    "trail": TrailAnswer,
    "find": list[FoundSeries] | list[FoundPlace],
    "pull": list[PulledSeries],
    "look": LookAnswer | list[Revision] | ReturnsAnswer | FileAnswer,
    "vault list": VaultAnswer,
}


def answers_schema() -> dict[str, Any]:
    """JSON Schema of what every command prints with ``--json``, by command."""
    from pydantic import TypeAdapter

    parts: dict[str, Any] = {}
    by_command = {}
    for command, answer in ANSWERS.items():
        schema = TypeAdapter(answer).json_schema(ref_template="#/$defs/{model}")
        parts |= schema.pop("$defs", {})
        if schema.get("type") == "object":
            parts[answer.__name__] = schema
            schema = {"$ref": f"#/$defs/{answer.__name__}"}
        by_command[command] = schema
    return {
        "$schema": "https://json-schema.org/draft/2020-12/schema",
        "title": "What the commands of ultrum print with --json",
        "properties": by_command,
        "$defs": dict(sorted(parts.items())),
    }
