"""Writes the pages that are made from the program: the commands, their JSON, and the study file's schema.

``python tools/write_references.py`` after a command, an answer or a section of the study file has changed; a test
says when it was forgotten.
"""

import json
from pathlib import Path

import ultrum as ul
from ultrum.cli import app
from ultrum.cli.json_schema import answers_schema
from ultrum.cli.manual import commands_page

DOCS = Path(__file__).resolve().parent.parent / "docs"


def pages():
    """Text of every such page, by its name."""
    schemas = {
        "study.schema.json": ul.Study.model_json_schema(),
        "answers.schema.json": answers_schema(),
    }
    told = {n: json.dumps(s, indent=1, ensure_ascii=False) + "\n" for n, s in schemas.items()}
    return told | {"commands.md": commands_page(app)}


if __name__ == "__main__":
    for name, text in pages().items():
        (DOCS / name).write_text(text, encoding="utf-8")
        print(DOCS / name)
