"""The registry of finding codes: what each means, how bad it is, and what usually helps.

Codes are stable: scripts and hand-over packs refer to them. A code is never given a second meaning. Their texts are data beside
the pages, in Markdown: `## CODE severity: title`, what it means, and a paragraph that begins with "What to do: ".
"""

from __future__ import annotations

import re
from collections.abc import Iterator
from pathlib import Path

from zentrale.findings.entry import Entry, Severity

FILES = ("planning", "network", "plain", "rehearsal", "site", "stream", "switch", "diagnosis", "wire", "walls")
_HEAD = re.compile(r"([A-Z]{3}-[0-9]+) (fault|warning|note): (.+)")


def read_codes(text: str) -> Iterator[Entry]:
    """The entries of one file. Raises ValueError where one is not written as the module says: a defect of the tool."""
    for part in text.split("\n## ")[1:]:
        head, *paragraphs = (" ".join(lines.split("\n")) for lines in part.strip().split("\n\n"))
        parsed = _HEAD.fullmatch(head)
        if parsed is None or len(paragraphs) != 2 or not paragraphs[1].startswith("What to do: "):
            raise ValueError(f"not as finding codes are written: {head}")
        advice = paragraphs[1].removeprefix("What to do: ").removesuffix(".")
        yield Entry(parsed[1], Severity(parsed[2]), parsed[3], paragraphs[0], advice)


_FOLDER = Path(__file__).parent.parent / "pages" / "codes"
CATALOGUE: dict[str, Entry] = {
    e.code: e for name in FILES for e in read_codes((_FOLDER / f"{name}.md").read_text(encoding="utf-8"))
}


def entry(code: str) -> Entry:
    """The entry of `code`. Raises KeyError for a code that is not registered: a defect of the tool."""
    return CATALOGUE[code]
