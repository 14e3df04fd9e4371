"""Where each statement of the files in ``data/stated_facts.toml`` ends: the differences from where it must."""

import io
import tomllib
import warnings
import zipfile
from pathlib import Path

import ultrum as ul
from ultrum.errors import UltrumError

FILES = tomllib.loads((Path(__file__).parent / "data" / "stated_facts.toml").read_text("utf-8"))["file"]
METADATA = (
    "title",
    "source",
    "unit",
    "currency",
    "scale",
    "measure",
    "maturity",
    "seasonal_adjustment",
    "base_period",
    "timing",
    "income",
    "quoted",
)

KEYS = {"about", "text", "encoding", "archive", "options", "refused", "fix", "values", "notes", "missing", "rejected", "events",
        "named", "frequency", *METADATA}  # fmt: skip


def source_of(file):
    """The bytes of a file, in its encoding and archive."""
    body = file["text"].encode(file.get("encoding", "utf-8"))
    if "archive" not in file:
        return body
    packed = io.BytesIO()
    with zipfile.ZipFile(packed, "w") as archive:
        for name, text in {"data.csv": body, **file["archive"]}.items():
            archive.writestr(name, text)
    return packed.getvalue()


def lost_facts(file):
    """What a reading does not have of what the file states; a refusal is followed by its fix."""
    source, options = source_of(file), dict(file.get("options", {}))
    lost = []
    if "refused" in file:
        try:
            ul.read_series(source, **options)
            lost.append("it is not refused")
        except UltrumError as error:
            if file["refused"] not in str(error):
                lost.append(f"refused without '{file['refused']}': {error}")
        options |= file.get("fix", {})
    try:
        with warnings.catch_warnings():
            warnings.simplefilter("ignore")
            return [*lost, *_differences(file, ul.read_series(source, **options))]
    except UltrumError as error:
        return [*lost, f"refused: {error}"]


def _labels(series):
    return series.metadata.frequency.labels(series.ordinals)


def _differences(file, reading):
    series, lost = reading.series, [f"no such key: {key}" for key in file.keys() - KEYS]
    for name, wanted in file.get("values", {}).items():
        if name not in series:
            lost.append(f"no series {name!r} among {list(series)}")
            continue
        found = dict(zip(_labels(series[name]), series[name].values.tolist(), strict=True))
        lost += [f"{name} {p}: {found.get(p)}, not {v}" for p, v in wanted.items()
                 if abs(found.get(p, float("nan")) - v) > 1e-12 or p not in found]  # fmt: skip
    if "frequency" in file and {str(s.metadata.frequency) for s in series.values()} != {file["frequency"]}:
        lost.append("another frequency")
    for fact in METADATA:
        stated = ((series[n].metadata, v) for n, v in file.get(fact, {}).items() if n in series)
        lost += [
            f"{m.name}: {fact} is {getattr(m, fact)!r}, not {v!r}" for m, v in stated if getattr(m, fact) != v
        ]
    for name, notes in file.get("notes", {}).items():
        if name in series and list(series[name].metadata.notes) != notes:
            lost.append(f"{name}: notes are {series[name].metadata.notes}")
    for name, count in file.get("missing", {}).items():
        if name in series and int(series[name].values.isna().sum()) != count:
            lost.append(f"{name}: {int(series[name].values.isna().sum())} missing values")
    if len(reading.rejected) != file.get("rejected", 0):
        lost.append(f"rejected: {reading.rejected}")
    if sum(map(len, reading.events.values())) != file.get("events", 0):
        lost.append(f"events: {dict(reading.events)}")
    said = "\n".join(map(str, (*reading.decisions, *(m.metadata for m in series.values()))))
    lost += [f"nothing names '{w}' in:\n{said}" for w in file.get("named", []) if w not in said]
    if not file["text"].startswith("{") and int(reading.account["lines"].sum()) != sum(
        bool(line.strip(" ,;\t")) for line in file["text"].splitlines()
    ):
        lost.append(f"the account has another sum:\n{reading.account}")
    return lost
