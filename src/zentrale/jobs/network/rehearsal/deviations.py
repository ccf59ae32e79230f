"""Lines in which the files that stand differ from what the plan would have written: where to look for a cause first."""

from __future__ import annotations

import re
from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from difflib import SequenceMatcher

from zentrale.jobs.network.standing import NO_MORE, Standing

ALL = "all that is planned"  # what an empty file lacks
_AROUND = 2  # words
_LINE = 96  # characters of a line that a person reads
_TRIED = (
    ".sh",
    ".nft",
    ".conf",
    ".txt",
    "ports.csv",
)  # whose lines each say something; the others are read back as a whole


@dataclass(frozen=True)
class Deviation:
    """`line` counts from 1 in the file that stands; of a line that is gone, where it would stand. `stands` and `planned` are the
    two lines, empty where there is none.
    """

    file: str
    line: int
    stands: str
    planned: str

    @property
    def at(self) -> str:
        return f"{self.file} line {self.line}"

    @property
    def in_words(self) -> str:
        if not self.stands:
            return f"lacks: {_short(self.planned)}"
        if not self.planned:
            return f"is not planned: {_short(self.stands)}"
        stands, planned = _apart(self.stands, self.planned)
        return f"{stands} (planned: {planned})"

    @property
    def text(self) -> str:
        """The line that stands, or that should."""
        return _short(self.stands or self.planned)

    def texts(self) -> tuple[str, ...]:
        return tuple(t for t in (self.stands, self.planned) if t)


def _short(line: str) -> str:
    text = re.sub(r"\s+", " ", line.strip())
    return text if len(text) <= _LINE else f"{text[:_LINE]}..."


def _apart(a: str, b: str) -> tuple[str, str]:
    """What two lines differ in, with a few words around it."""
    x, y = a.split(), b.split()
    head = next((i for i, (p, q) in enumerate(zip(x, y, strict=False)) if p != q), min(len(x), len(y)))
    tail = next((i for i, (p, q) in enumerate(zip(x[::-1], y[::-1], strict=False)) if p != q), min(len(x), len(y)))
    tail = max(0, min(tail, len(x) - head, len(y) - head) - _AROUND)
    head = max(0, head - _AROUND)
    return tuple(  # type: ignore[return-value]
        f"{'... ' if head else ''}{_short(' '.join(words[head : len(words) - tail]))}{' ...' if tail else ''}"
        for words in (x, y)
    )


def deviations(standing: Standing) -> list[Deviation]:
    """Comments and blank lines say nothing and are passed over."""
    found: list[Deviation] = []
    for file in standing.files.values():
        if file.path.endswith(_TRIED) and file.state != NO_MORE and file.content != file.planned:
            stands, planned = (_lines(text) for text in (file.text, file.planned.decode("utf-8-sig")))
            found += _between(file.path, stands, planned)
    return found


def _lines(text: str) -> list[tuple[int, str]]:
    """Number and content of each line that says something."""
    lines = enumerate((re.sub(r"(^|\s)#.*", "", line).strip() for line in text.split("\n")), 1)
    return [(number, line) for number, line in lines if line]


def _between(file: str, stands: Sequence[tuple[int, str]], planned: Sequence[tuple[int, str]]) -> Iterator[Deviation]:
    if not stands:
        yield Deviation(file, 1, "", ALL)
        return
    a, b = [line for _, line in stands], [line for _, line in planned]
    end = stands[-1][0] + 1 if stands else 1
    for kind, i, j, k, m in SequenceMatcher(None, a, b, autojunk=False).get_opcodes():
        if kind == "equal":
            continue
        here, there = list(stands[i:j]), [line for _, line in planned[k:m]]
        after = stands[j][0] if j < len(stands) else end
        for number, line in here:
            twin = _twin(line, there) if there else None
            if twin is not None:
                there.remove(twin)
            yield Deviation(file, number, line, twin or "")
        for line in there:
            yield Deviation(file, here[-1][0] + 1 if here else after, "", line)


def _twin(line: str, others: Sequence[str]) -> str | None:
    """The planned line that this one stands in the place of: most alike, and alike enough."""
    ratio, best = max((SequenceMatcher(None, line, other, autojunk=False).ratio(), other) for other in others)
    return best if ratio > 0.6 else None
