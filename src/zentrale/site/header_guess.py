"""Which row of a schedule may be its header and which column may be which, by what stands in the cells.

For a schedule whose titles are nobody's words: the person is shown the guess and confirms it, it is never taken as it is.
"""

from __future__ import annotations

import ipaddress
from collections.abc import Callable, Mapping, Sequence
from itertools import pairwise

from zentrale.site.headers import Words, known_columns, plain
from zentrale.site.schedule import parse_length_m, parse_whole
from zentrale.site.tables import Row
from zentrale.site.values import normal_mac

_LOOKED_AT = 40
_ENOUGH = 0.8  # of the filled cells of a column


def likely_header(rows: Sequence[Row]) -> Row | None:
    """The first row of words alone above one that is as full; None where there is none."""
    for upper, lower in pairwise(rows[:_LOOKED_AT]):
        words = [cell for cell in upper.cells if cell]
        if len(words) > 1 and lower.filled > 1 and len(set(words)) == len(words) and not any(map(_is_number, words)):
            return upper
    return None


def likely_columns(
    rows: Sequence[Row], header: Row, titles: Words, words: Mapping[str, Mapping[str, str]]
) -> dict[str, str]:
    """Our columns with the title that is known for each, or else that of the column whose cells look like it."""
    below = [row for row in rows if row.number > header.number]
    cells = {
        title: [row.cells[index] for row in below if index < len(row.cells) and row.cells[index]]
        for index, title in enumerate(header.cells)
        if title
    }
    found = {column: header.cells[index] for column, index in known_columns(header.cells, titles).items()}
    for column, fits in _tests(words):
        if column in found:
            continue
        for title, filled in cells.items():
            if filled and title not in found.values() and fits(filled):
                found[column] = title
                break
    return found


def _tests(words: Mapping[str, Mapping[str, str]]) -> list[tuple[str, Callable[[Sequence[str]], bool]]]:
    """What the cells of each of our columns look like, the surest first."""

    def known(words: Mapping[str, str]) -> Callable[[Sequence[str]], bool]:
        have = {plain(word) for word in words}
        return lambda cells: _mostly(cells, lambda cell: plain(cell) in have)

    def cables(cells: Sequence[str]) -> bool:
        """Metres: with their unit, with fractions, or more than any switch has ports."""
        lengths = [parse_length_m(cell) for cell in cells if _parses(parse_length_m, cell)]
        plainly = all(cell.isdigit() for cell in cells) and max(lengths, default=0) <= 52
        return len(lengths) >= _ENOUGH * len(cells) and not plainly

    def numbers(cells: Sequence[str]) -> bool:
        return _mostly(cells, lambda cell: cell.isdigit() and _parses(parse_whole, cell))

    def names(cells: Sequence[str]) -> bool:
        return len(set(cells)) == len(cells) and _mostly(cells, lambda c: any(map(str.isalpha, c)) and len(c) < 40)

    return [
        ("mac", lambda cells: _mostly(cells, lambda cell: _parses(normal_mac, cell))),
        ("address", lambda cells: _mostly(cells, lambda cell: _parses(ipaddress.IPv4Address, cell))),
        *((column, known(words[column])) for column in ("type", "switch", "recorder", "group", "zone")),
        ("run_length_m", cables),
        ("port", numbers),
        ("channel", numbers),
        ("run_length_m", numbers),
        ("name", names),
        ("shows", lambda cells: _mostly(cells, lambda cell: any(map(str.isalpha, cell)))),
    ]


def _mostly(cells: Sequence[str], fits: Callable[[str], bool]) -> bool:
    return sum(map(fits, cells)) >= _ENOUGH * len(cells)


def _parses(parse: Callable[[str], object], cell: str) -> bool:
    try:
        parse(cell)
    except ValueError:
        return False
    return True


def _is_number(cell: str) -> bool:
    return not any(map(str.isalpha, cell))
