"""Text that came from elsewhere, made harmless: for terminals, logs, pages and spreadsheets.

A device's words may hold escape sequences that move the cursor, or marks that turn the direction of writing, so that a
line reads as something else. They are replaced where they come in, and once more where anything goes out.
"""

from __future__ import annotations

import unicodedata

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
