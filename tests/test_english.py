"""The English of code, messages and documents: words that are not used, kept in one file."""

import io
import re
import tokenize
import unittest

from tests.support import ROOT

WORDS = [
    line.split("\t")
    for line in (ROOT / "tests" / "forbidden_words.txt").read_text(encoding="utf-8").splitlines()
    if line and not line.startswith("#")
]
ANY = re.compile("|".join(pattern for pattern, _ in WORDS), re.IGNORECASE)
CODE = re.compile(r"`[^`]*`|https?://\S+|\w+\.json|SELECT .*")  # names of formats are not prose


def texts(path):
    """Number and text of each line with prose: all of a document; names, strings and comments of a module."""
    source = path.read_text(encoding="utf-8")
    if path.suffix != ".py":
        yield from enumerate(source.splitlines(), 1)
        return
    for token in tokenize.generate_tokens(io.StringIO(source).readline):
        if token.type in (tokenize.STRING, tokenize.COMMENT, tokenize.NAME):
            for offset, line in enumerate(token.string.split("\n")):
                yield token.start[0] + offset, line.replace("_", " ")


class English(unittest.TestCase):
    def test_every_link_inside_the_documents_leads_somewhere(self):
        pages = [*(ROOT / "docs").rglob("*.md"), *ROOT.glob("*.md")]
        links = [
            (page, link)
            for page in pages
            for link in re.findall(r"\]\(([^)#\s]+)", page.read_text(encoding="utf-8"))
            if "://" not in link
        ]
        self.assertGreater(len(links), 100)
        lost = [f"{page.name}: {link}" for page, link in links if not (page.parent / link).exists()]
        self.assertEqual(lost, [])

    def test_no_forbidden_word_is_used(self):
        files = [*(ROOT / "ultrum").rglob("*.py"), *(ROOT / "docs").rglob("*.md")]
        files += [*(ROOT / "examples").glob("*.py"), ROOT / "README.md", ROOT / "CONTRIBUTING.md"]
        found = [
            f"{path.relative_to(ROOT)}:{number}: '{match[0]}'; write: {better}"
            for path in files
            for number, line in texts(path)
            if ANY.search(line)
            for pattern, better in WORDS
            if (match := re.search(pattern, CODE.sub("", line), re.IGNORECASE))
        ]
        self.assertEqual(found, [], "\n".join(found[:40]))
