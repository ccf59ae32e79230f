"""What stands above the columns of a camera schedule, in the languages that schedules are written in: a table that a site adds
to by a file `headers.toml` of the same form.
"""

from __future__ import annotations

import re
import tomllib
import unicodedata
from collections.abc import Iterable, Mapping, Sequence
from importlib import resources
from pathlib import Path
from typing import Any

from zentrale.errors import InputError
from zentrale.site.model import Camera

HEADERS_FILE = "headers.toml"
COLUMNS = tuple(name for name in Camera.model_fields if name != "row")

Words = Mapping[str, tuple[str, ...]]  # by our column what people write for it; the first column that fits wins
# Letters that are no sign over another letter: as their languages write them where they have no such letter.
_LETTERS = str.maketrans({"ä": "ae", "ö": "oe", "ü": "ue", "ß": "ss", "æ": "ae", "œ": "oe", "ø": "oe", "å": "aa", "đ": "d",
                          "ð": "d", "þ": "th", "ł": "l", "ı": "i"})  # fmt: skip


def plain(text: str) -> str:
    """Small letters and digits with single blanks: what two spellings of a header have in common."""
    small = unicodedata.normalize("NFC", text).lower().translate(_LETTERS)
    letters = unicodedata.normalize("NFKD", small).encode("ascii", "ignore").decode()
    return " ".join(re.sub(r"[^a-z0-9]+", " ", letters).split())


def header_words(folder: Path | None = None) -> Words:
    """The table that ships with the package, and what the site folder's own adds. Raises InputError for a file that is none."""
    shipped = resources.files("zentrale") / "site" / "data" / HEADERS_FILE
    tables = [tomllib.loads(shipped.read_text(encoding="utf-8"))]
    if folder is not None and (folder / HEADERS_FILE).exists():
        tables.insert(0, _own(folder / HEADERS_FILE))
    found: dict[str, list[str]] = {column: [] for table in tables[-1:] for column in table}
    for table in tables:
        for column, words in table.items():
            found[column] += [plain(word) for some in words.values() for word in some]
    return {column: tuple(dict.fromkeys(words)) for column, words in found.items()}


def _own(path: Path) -> dict[str, Any]:
    expected = 'expected a table for each column with lists of titles, such as [run_length_m] and ours = ["Zugweg"]'
    try:
        table = tomllib.loads(path.read_text(encoding="utf-8-sig"))
    except (OSError, UnicodeDecodeError, tomllib.TOMLDecodeError) as error:
        raise InputError(f"{path.name}: cannot be read: {error}", expected) from None
    for column, words in table.items():
        if column not in COLUMNS:
            raise InputError(f"{path.name}: [{column}] is no column", f"expected one of: {', '.join(COLUMNS)}")
        lists = list(words.values()) if isinstance(words, dict) else [None]
        if not all(isinstance(some, list) and all(isinstance(word, str) for word in some) for some in lists):
            raise InputError(f"{path.name}: [{column}] is no list of titles", expected)
    return table


def known_columns(cells: Sequence[str], words: Words, skip: Iterable[str] = ()) -> dict[str, int]:
    """Our columns by exact title first, then by words within the title; each title is used once."""
    titles = {index: plain(cell) for index, cell in enumerate(cells) if plain(cell) and plain(cell) not in skip}
    found: dict[str, int] = {}
    used: set[int] = set()
    exact = {title: index for index, title in reversed(titles.items())}
    for column, synonyms in words.items():
        index = next((exact[s] for s in synonyms if s in exact and exact[s] not in used), None)
        if index is not None:
            found[column] = index
            used.add(index)
    for column, synonyms in words.items():
        if column in found:
            continue
        free = {index: title for index, title in titles.items() if index not in used}
        index = next((i for s in synonyms if len(s) > 3 for i, t in free.items() if f" {s} " in f" {t} "), None)
        if index is not None:
            found[column] = index
            used.add(index)
    return found
