"""What each device is at, while many are worked on at once: a line each on a terminal; in a pipe a line when it is done."""

from __future__ import annotations

import time
from collections.abc import Iterator
from contextlib import contextmanager

from rich.console import Group
from rich.live import Live
from rich.text import Text

from zentrale.cli.output import Output
from zentrale.words import clean_lines

_MOST_LINES = 16


class Under:
    """The work under way. `doing` and `done` are called from the work."""

    def __init__(self, output: Output, title: str, total: int) -> None:
        self._output = output
        self._title = title
        self._total = total
        self._began = time.monotonic()
        self._at: dict[str, tuple[str, float]] = {}
        self._number = 0
        self.on_terminal = False

    def doing(self, name: str, step: str) -> None:
        """`step` empty: it is done, though it does not count."""
        if step:
            self._at[name] = step, time.monotonic()
        else:
            self._at.pop(name, None)

    def done(self, number: int, text: str) -> None:
        self._number = number
        self._at.pop(text.partition(":")[0], None)
        Output.reached = f"{number} of {self._total}"
        if not self.on_terminal:
            self._output.hint(f"{number:>4} of {self._total}  {text}")

    def __rich__(self) -> Group:
        now = time.monotonic()
        head = f"{self._title}  {self._number} of {self._total} done  {now - self._began:.0f} s"
        width = max((len(name) for name in self._at), default=0)
        rows = [
            Text(f"  {clean_lines(name):<{width}}  {clean_lines(step):<20}{now - since:>5.0f} s")
            for name, (step, since) in list(self._at.items())[:_MOST_LINES]
        ]
        more = len(self._at) - _MOST_LINES
        return Group(Text(head, style="bold"), *rows, *([Text(f"  and {more} more")] if more > 0 else []))


@contextmanager
def under_way(output: Output, title: str, total: int) -> Iterator[Under]:
    under = Under(output, title, total)
    if output.quiet or output.json or not output.err.is_terminal:
        output.hint(f"{title}, {total} in all")
        yield under
        return
    under.on_terminal = True
    with Live(under, console=output.err, refresh_per_second=4, transient=True) as live, output.moving(live):
        yield under
