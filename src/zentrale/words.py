"""Text that came from elsewhere, made harmless: for terminals, logs, pages and spreadsheets.

A device's words may hold escape sequences that move the cursor, or marks that turn the direction of writing, so that a
line reads as something else. They are replaced where they come in, and once more where anything goes out.
"""

from __future__ import annotations

import unicodedata

TYPE_CHECKING = False  # as typing has it, without the cost of importing typing
if TYPE_CHECKING:
    from collections.abc import Iterable

REPLACEMENT = "\ufffd"
# Cc: control characters, ESC among them. Cf: format characters, the marks for the direction of writing among them.
# Cs, Co, Cn: no characters at all. Zl, Zp: line and paragraph separators.
_HARMFUL = frozenset({"Cc", "Cf", "Cs", "Co", "Cn", "Zl", "Zp"})
_HARMLESS = "\u200c\u200d"  # zero-width joiners: Persian and some Indian languages are not written without them


def clean(text: str, limit: int | None = None) -> str:
    """`text` without control, format and direction characters, each replaced; cut to `limit` characters."""
    if limit is not None:
        text = text[:limit]
    if text.isascii() and text.isprintable():
        return text
    return "".join(REPLACEMENT if unicodedata.category(c) in _HARMFUL and c not in _HARMLESS else c for c in text)


def clean_lines(text: str) -> str:
    """The same for text of several lines: line breaks and tabs stay."""
    return "\n".join("\t".join(clean(part) for part in line.split("\t")) for line in text.split("\n"))


def meant(word: str, known: Iterable[str]) -> str:
    """What was probably meant by a word that is not known: `; did you mean X?`, or nothing."""
    import difflib  # only after a mistake

    spelled = {name.lower(): name for name in known}
    near = difflib.get_close_matches(word.lower(), list(spelled), n=1, cutoff=0.6)
    return f"; did you mean {spelled[near[0]]}?" if near else ""
