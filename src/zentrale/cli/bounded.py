"""A result of many rows on a screen: so many lines and no more, with what was left out said."""

from __future__ import annotations

import io

from rich.console import Console

from zentrale import quantities

TYPE_CHECKING = False  # as typing has it, without the cost of importing typing
if TYPE_CHECKING:
    from collections.abc import Callable, Iterable, Sequence

    from zentrale.cli.output import Output
    from zentrale.findings import Finding

MOST, _FOR_FINDINGS = 120, 80  # lines


class _Shown:
    """Remembers what is shown on a page, to show it with fewer rows."""

    def __init__(self) -> None:
        self.calls: list[tuple[str, tuple[object, ...]]] = []
        self.longest = 0

    def heading(self, text: str) -> None:
        self.calls.append(("heading", (text,)))

    def line(self, text: str = "", style: str = "") -> None:
        self.calls.append(("line", (text, style)))

    def hint(self, text: str) -> None:
        self.calls.append(("hint", (text,)))

    def table(self, columns: Sequence[str], rows: Iterable[Sequence[str]]) -> None:
        kept = list(rows)
        self.longest = max(self.longest, len(kept))
        self.calls.append(("table", (columns, kept)))

    def on(self, output: Output, most: int, *, hints: bool = True) -> None:
        """`most` rows of each table."""
        for what, arguments in self.calls:
            if what == "table":
                columns, rows = arguments
                assert isinstance(rows, list)
                output.table(columns, rows[:most])  # type: ignore[arg-type]
                if len(rows) > most:
                    output.line(f"and {quantities.count(len(rows) - most, 'more row')}: --tables writes all of them")
            elif what != "hint" or hints:
                getattr(output, what)(*arguments)


def lines_of(output: Output, show: Callable[[], None]) -> int:
    """How many lines that takes there."""
    text, real = io.StringIO(), output.out
    output.out = Console(file=text, width=real.width, highlight=False, emoji=False, color_system=None)
    try:
        show()
    finally:
        output.out = real
    return text.getvalue().count("\n")


def show_findings(output: Output, findings: Sequence[Finding]) -> int:
    """The worst of them, as many as there is room for; returns the lines that they took."""
    from zentrale.findings.form import worst_first

    ordered = worst_first(findings)
    if not ordered:
        return 0
    kept = _most(len(ordered), lambda n: lines_of(output, lambda: output.findings(ordered[:n])) <= _FOR_FINDINGS)
    output.line()
    output.findings(ordered[:kept])
    if kept < len(ordered):
        output.line(f"and {quantities.count(len(ordered) - kept, 'more finding')}: --details tells all of them")
    return 2 + lines_of(output, lambda: output.findings(ordered[:kept]))


def show_page(output: Output, taken: int, show: Callable[[_Shown], None]) -> None:
    """Tables, within what is left of the lines."""
    page = _Shown()
    show(page)
    most = _most(page.longest, lambda n: taken + lines_of(output, lambda: page.on(output, n, hints=False)) <= MOST)
    page.on(output, most)


def _most(highest: int, fits: Callable[[int], bool]) -> int:
    """The highest number up to `highest` that fits; 0 where none does."""
    if fits(highest):
        return highest
    low, high = 0, highest
    while high - low > 1:
        middle = (low + high) // 2
        low, high = (middle, high) if fits(middle) else (low, middle)
    return low
