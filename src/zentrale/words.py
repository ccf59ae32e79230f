"""Text that came from elsewhere, made harmless: for terminals, logs, pages and spreadsheets.

A device's words may hold escape sequences that move the cursor, or marks that turn the direction of writing, so that a
line reads as something else. They are replaced where they come in, and once more where anything goes out.
"""

from __future__ import annotations

import re
import unicodedata

TYPE_CHECKING = False  # as typing has it, without the cost of importing typing
if TYPE_CHECKING:
    from collections.abc import Iterable

REPLACEMENT = "\ufffd"
MASK = "..."
_ADDRESS = re.compile(r"[A-Za-z][A-Za-z0-9+.-]*://[^\s\"'<>\\]+")
# Up to the next separator, or the next name behind an underscore.
_SECRET = re.compile(r"(?i)((?:pass(?:word|wd|wort)?|pwd|pw|psw)=)(.*?)(?=[&/;?#,]|_[a-z]+=|$)")
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


def masked(text: str) -> str:
    """`text` without the passwords that some devices want within the path or the query of an address."""
    return _ADDRESS.sub(lambda found: _SECRET.sub(rf"\1{MASK}", found[0]), text) if "://" in text else text


def clean_lines(text: str) -> str:
    """The same for text of several lines, as it goes out: line breaks and tabs stay, passwords within addresses do not."""
    text = masked(text)
    return "\n".join("\t".join(clean(part) for part in line.split("\t")) for line in text.split("\n"))


def meant(word: str, known: Iterable[str]) -> str:
    """What was probably meant by a word that is not known: `; did you mean X?`, or nothing."""
    import difflib  # only after a mistake

    spelled = {name.lower(): name for name in known}
    near = difflib.get_close_matches(word.lower(), list(spelled), n=1, cutoff=0.6)
    return f"; did you mean {spelled[near[0]]}?" if near else ""
