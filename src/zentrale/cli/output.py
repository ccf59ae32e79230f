"""Writing to the terminal: results on stdout, progress and hints on stderr. The one place that knows about colour.

Colour is never the only signal: every verdict is also a word.
"""

from __future__ import annotations

import argparse
import json
import os
import sys
from collections.abc import Iterable, Iterator, Mapping, Sequence
from contextlib import contextmanager
from typing import Any, ClassVar, TextIO

from rich import box
from rich.cells import cell_len
from rich.console import Console
from rich.live import Live
from rich.markup import escape
from rich.progress import BarColumn, Progress, TextColumn, TimeElapsedColumn
from rich.table import Table

from zentrale import quantities
from zentrale.cli.defects import write_report
from zentrale.cli.layout import PIPE_WIDTH, column_widths, stacked, width_of, wrapped
from zentrale.findings import Finding, Severity, Verdict, count_faults, worst_first
from zentrale.words import clean_lines

_STYLES = {Severity.FAULT: "bold red", Severity.WARNING: "yellow", Severity.NOTE: "cyan"}
_NAMES = 13  # columns for the names in a list
_MOST_ALIKE = 3  # findings of one code and remedy that are told one by one
_KINDS = ("camera", "recorder", "switch", "link", "zone", "viewer", "device", "group", "battery")
_TABLE_GAP = 3  # blanks between columns
STATE_STYLES = {"ok": "green", "fault": "bold red", "warning": "yellow", "note": "cyan"}


class Output:
    """What one command run writes to. `reached` is how far the work under way has got, for whoever interrupts it."""

    reached: ClassVar[str] = ""
    last: ClassVar[Output | None] = None

    def __init__(self, args: argparse.Namespace) -> None:
        self.json = bool(getattr(args, "json", False))
        self.quiet = bool(args.quiet)
        self.details = bool(getattr(args, "details", False))
        plain = bool(args.no_color or os.environ.get("NO_COLOR"))
        self.width = width_of(sys.stdout)
        self.out = self._console(sys.stdout, plain=plain)
        self.err = self._console(sys.stderr, plain=plain)
        self._moving: list[Progress | Live] = []
        self._verdict = ("", "")
        self._since = 0  # lines on the terminal since the verdict
        Output.last = self

    @staticmethod
    def _console(stream: TextIO, *, plain: bool) -> Console:
        """Without colour there is no escape at all: not for bold or dim text either."""
        more: dict[str, Any] = {"color_system": None} if plain else {}
        return Console(file=stream, width=width_of(stream) or PIPE_WIDTH, highlight=False, emoji=False, **more)

    def end(self) -> None:
        """Where the verdict has scrolled away on a terminal it is said once more."""
        words, style = self._verdict
        screen = self.out.size.height if sys.stdout.isatty() else 0
        if words and screen and self._since >= screen - 2:
            self._say(words, style)

    # Messages

    def line(self, text: str = "", style: str = "") -> None:
        """A line of the result."""
        if not self.json:
            for row in text.split("\n"):
                self._say(row, style)

    def _say(self, row: str, style: str) -> None:
        for part in wrapped(row, self.width, "  " if row[:1] != " " else row[: len(row) - len(row.lstrip())], ""):
            self.out.print(_safe(part), style=style or None, soft_wrap=True)
            self._since += 1

    def verbatim(self, text: str) -> None:
        """A line as it is, whatever the width: something to be typed or copied."""
        if not self.json:
            self.out.print(_safe(text), soft_wrap=True)

    def said(self, name: str, text: str, width: int = _NAMES) -> None:
        """A line of a list of things and what is said of each, one under the other. `width` is that of the names."""
        if not self.json:
            for part in wrapped(text, self.width, " " * width, f"{name + ':':<{width - 1}} "):
                self.out.print(_safe(part), soft_wrap=True)

    def heading(self, text: str) -> None:
        self.line()
        self.line(text, "bold")

    def hint(self, text: str) -> None:
        """Something worth knowing that is not a result: what is going on, what comes next."""
        if not self.quiet:
            for part in wrapped(text, width_of(sys.stderr), "  ", ""):
                self.err.print(_safe(part), style="dim", soft_wrap=True)

    def notice(self, text: str) -> None:
        """What must be known while the command goes on, also with --quiet: that it waits, that it takes a risk."""
        self.err.print(_safe(text), soft_wrap=True)

    def problem(self, text: str) -> None:
        self.err.print(_safe(text), soft_wrap=True)

    def error(self, what: str, advice: str) -> None:
        self.err.print(f"[bold red]zentrale:[/] {_safe(what)}", soft_wrap=True)
        if advice:
            self.err.print(f"  {_safe(advice)}", soft_wrap=True)

    def document(self, data: dict[str, Any]) -> None:
        """The one JSON document of `--json`."""
        print(clean_lines(json.dumps(data, indent=2, ensure_ascii=False)))

    # Tables

    def table(self, columns: Sequence[str], rows: Iterable[Sequence[str]]) -> None:
        """Columns whose title begins with ">" are numbers, set to the right; with "?", left out where there is no room for them,
        the last first. A cell may be `style|text`.
        """
        if self.json:
            return
        lines = [[str(cell) for cell in row] for row in rows]
        columns, lines, narrow = _with_room(columns, lines, self.out.width)
        self._since += len(lines) + 3
        plain = [[_plain(cell) for cell in row] for row in lines]
        names = [column.lstrip(">") for column in columns]
        numbers = {i for i, column in enumerate(columns) if column.startswith(">")}
        widths = column_widths(names, plain, self.out.width, numbers)
        if widths is None:
            self._stack(names, lines)
            return
        table = Table(box=box.SIMPLE_HEAD, pad_edge=False, show_edge=False, header_style="bold")
        for column, name, width in zip(columns, names, widths, strict=True):
            table.add_column(
                escape(name), justify="right" if column.startswith(">") else "left", overflow="fold", min_width=width,
                max_width=width,
            )  # fmt: skip
        for row in lines:
            table.add_row(*[_cell(cell) for cell in row])
        self.out.print(table)
        if narrow:
            self.line(f"no room here for: {', '.join(narrow)}")

    def _stack(self, names: Sequence[str], rows: Sequence[Sequence[str]]) -> None:
        """Rows for a screen that is too narrow for columns: each its own few lines, what is wrong in its colour."""
        flat = [" ".join(name.split()) for name in names]
        for row in rows:
            style = next((STATE_STYLES[c.partition("|")[0]] for c in row if c.partition("|")[0] in STATE_STYLES), "")
            first, *more = stacked(flat, [_plain(cell) for cell in row], self.out.width)
            self.out.print(_safe(first), style=style if style != STATE_STYLES["ok"] else "bold", soft_wrap=True)
            for line in more:
                self.out.print(_safe(line), soft_wrap=True)

    def findings(self, findings: Iterable[Finding]) -> None:
        """Worst first, security before all else of its severity: what, where, against what, and what to do. What several
        subjects have in common is told once. With `details` each has its limit's source, and a line for each field.
        """
        if self.json:
            return
        findings = list(findings)
        named = {f.name for f in findings if not f.caused_by}
        beneath = [f for f in findings if f.caused_by in named]
        for alike in _grouped(f for f in findings if f.caused_by not in named):
            item = alike[0]
            kinds = {_kind(f) for f in alike}
            noun = kinds.pop() if len(kinds) == 1 else "place"
            subject = item.subject if len(alike) == 1 else quantities.count(len(alike), noun)
            names = _names(alike, noun)
            where = "" if len(alike) == 1 else f" ({', '.join(names) if self.details else quantities.listed(names)})"
            measured = list(dict.fromkeys(f.measured for f in alike))
            head = f"{item.severity.value.upper():<8}{item.code:<7} "
            under = " " * len(head)
            text = f"{subject}: {item.title}{where}"
            if len(measured) > 1:
                text = f"{subject}: {item.title}"
            elif not self.details:
                alone = len({f.limit for f in alike}) == 1
                text += f": {item.measured}{f' (expected {item.limit})' if alone else ''}"
            first, *more = wrapped(text, self.width, under, head)
            self.out.print(
                f"[{_STYLES[item.severity]}]{_safe(first[:8])}[/][bold]{_safe(first[8:16])}[/]{_safe(first[16:])}",
                soft_wrap=True,
            )
            if len(measured) > 1:
                shown = alike if self.details else alike[:_MOST_ALIKE]
                for other in shown:
                    words = f"{_names([other], noun)[0]}: {other.measured} (expected {other.limit})"
                    more += wrapped(words, self.width, f"{under}  ", under)
                if len(shown) < len(alike):
                    more.append(f"{under}and {len(alike) - len(shown)} more: --details tells all of them")
                more += wrapped(f"do: {item.advice}", self.width, under)
            elif self.details:
                more += wrapped(f"found:    {item.measured}", self.width, under)
                more += wrapped(f"expected: {item.limit} ({item.limit_source})", self.width, under)
                more += wrapped(f"do:       {item.advice}", self.width, under)
            else:
                more += wrapped(f"do: {item.advice}", self.width, under)
            for other in (f for f in beneath if f.caused_by in {a.name for a in alike}):
                words = f"{other.code} {other.subject}: {other.title}: {other.measured}"
                more += wrapped(words, self.width, f"{under}  ", f"{under}follows: ")
            self._since += 1 + len(more)
            for line in more:
                self.out.print(_safe(line), soft_wrap=True)

    def reports(self, reports: Sequence[str], site: str | None) -> None:
        """Reports of defects of ours that ended the work on single devices: into a file, and its path told."""
        if reports:
            path = write_report(reports, site)
            self.notice(f"report of what this program failed on: {path or 'could not be written'}")

    def result(
        self,
        findings: Sequence[Finding],
        good: str,
        said: str = "",
        *,
        unknown: bool = False,
        common: Sequence[str] = (),
    ) -> None:
        """What a result begins with: the verdict, `said` in numbers, what many have in common, and what is wrong. `unknown`: not
        all was judged.
        """
        self.verdict(findings, good, said, unknown=unknown)
        for text in common:
            self.line(f"one cause?  {text}", "bold yellow")
        if findings:
            self.line()
            self.findings(findings)

    def verdict(self, findings: Sequence[Finding], good: str, said: str = "", *, unknown: bool = False) -> None:
        """The most important line. `good` is said where nothing is wrong, and all was judged or it says what was."""
        faults = count_faults(findings)
        warnings = sum(f.severity is Severity.WARNING for f in findings)
        more = f"; {said}" if said else ""
        if not faults and not warnings:
            self._judge(
                f"{'NOT JUDGED' if unknown else 'OK'}  {good}{more}", "bold yellow" if unknown else "bold green"
            )
            return
        counts = ((faults, "fault"), (warnings, "warning"))
        text = ", ".join(quantities.count(number, noun) for number, noun in counts if number)
        style = "bold red" if faults else "bold yellow"
        self._judge(f"{'FAULTS' if faults else 'WARNINGS'}  {text}{more}", style)

    def _judge(self, words: str, style: str) -> None:
        self.line(words, style)
        self._verdict, self._since = (("", "") if self.json else (words, style)), 0

    def next(self, text: str, command: str = "") -> None:
        """The step that makes sense now; `command` is to be typed as it is, so it is on a line of its own, and whole."""
        self.hint(f"next: {text}{':' if command else ''}")
        if command and not self.quiet:
            self.err.print(f"  {_safe(command)}", style="dim", soft_wrap=True)

    # Progress

    @contextmanager
    def moving(self, display: Progress | Live) -> Iterator[None]:
        """Something on the screen that is drawn again and again: it stands still while somebody is asked."""
        self._moving.append(display)
        try:
            yield
        finally:
            self._moving.remove(display)

    def ask(self, question: str) -> bool:
        """What the person at the terminal answers; no where there is none."""
        if not sys.stdin.isatty():
            return False
        for display in self._moving:
            display.stop()
        try:
            sys.stderr.write(f"{clean_lines(question)} [y/N] ")
            sys.stderr.flush()
            return sys.stdin.readline().strip().lower() in ("y", "yes")
        finally:
            for display in self._moving:
                display.start()

    @contextmanager
    def progress(self, title: str, total: int) -> Iterator[Any]:
        """Yields a function to call with the number done. A bar on a terminal; elsewhere one line says what is waited for."""

        def count(done: int, text: str = "") -> None:
            Output.reached = f"{done} of {total}"

        if self.quiet or self.json or not self.err.is_terminal:
            self.hint(f"{title}, {total} in all")
            yield count
            return
        columns = (
            TextColumn("{task.description}"),
            BarColumn(30),
            TextColumn("{task.completed}/{task.total}"),
            TimeElapsedColumn(),
        )
        with Progress(*columns, console=self.err, transient=True) as bar, self.moving(bar):
            task = bar.add_task(title, total=total)

            def step(done: int, text: str = "") -> None:
                count(done)
                bar.update(task, completed=done, description=f"{title} {text}".strip())

            yield step


def _cell(cell: str) -> str:
    style, mark, text = cell.partition("|")
    if mark and style in STATE_STYLES:
        return f"[{STATE_STYLES[style]}]{_safe(text)}[/]"
    return _safe(cell)


def _safe(text: str) -> str:
    """Text from wherever, as it may go to a terminal: no markup, no control characters."""
    return escape(clean_lines(text))


def _plain(cell: str) -> str:
    style, mark, text = cell.partition("|")
    return clean_lines(text if mark and style in STATE_STYLES else cell)


def _grouped(findings: Iterable[Finding]) -> list[list[Finding]]:
    """What several have alike together; and of what many of them have each its own of, all with one remedy."""
    groups: dict[tuple[str, ...], list[Finding]] = {}
    for item in worst_first(findings):
        groups.setdefault((item.code, item.measured, item.advice), []).append(item)
    causes: dict[tuple[str, str], list[list[Finding]]] = {}
    for group in groups.values():
        causes.setdefault((group[0].code, group[0].advice), []).append(group)
    found: list[list[Finding]] = []
    for some in causes.values():
        found += [[f for group in some for f in group]] if len(some) > _MOST_ALIKE else some
    return found


def _with_room(
    columns: Sequence[str], rows: list[list[str]], width: int
) -> tuple[list[str], list[list[str]], list[str]]:
    """The columns for which there is room, each cell in one line, and the names of those that were left out."""
    kept, left = list(range(len(columns))), []
    optional = [i for i, column in enumerate(columns) if column.startswith("?")]

    def needs(some: Sequence[int]) -> int:
        widths = [max(len(columns[i].lstrip("?>")), *(cell_len(_plain(row[i])) for row in rows), 0) for i in some]
        return sum(widths) + _TABLE_GAP * (len(some) - 1) + 1

    while optional and needs(kept) > width:
        at = optional.pop()
        kept.remove(at)
        left.append(columns[at].lstrip("?>"))
    return [columns[i].lstrip("?") for i in kept], [[row[i] for i in kept if i < len(row)] for row in rows], left[::-1]


def _names(alike: Sequence[Finding], noun: str) -> list[str]:
    if noun == "place":
        return [f.subject for f in alike]
    return [f.ref.name if f.ref is not None else f.subject.removeprefix(f"{noun} ") for f in alike]


def _kind(item: Finding) -> str:
    """Of its subject, as a noun; a place where it is no whole thing."""
    if item.ref is not None:
        return "place" if item.ref.part else item.ref.kind.value.removesuffix(" at")
    word, _, name = item.subject.partition(" ")
    if name.startswith("type "):
        return f"{word} type"
    return word if word in _KINDS and name and "," not in name else "place"


def verdict_of(findings: Sequence[Finding]) -> str:
    """As the verdict's word is, for documents: ok, warnings or faults."""
    if count_faults(findings):
        return "faults"
    return "warnings" if any(f.severity is Severity.WARNING for f in findings) else "ok"


def counted(verdicts: Mapping[Verdict, int]) -> str:
    """How many have each verdict: those as planned always, the others where there are any."""
    kept = [(v, n) for v, n in verdicts.items() if n or v is Verdict.AS_PLANNED]
    return ", ".join(f"{number} {verdict.words}" for verdict, number in kept)


def finding_document(item: Finding) -> dict[str, str | None]:
    return {
        "code": item.code, "severity": item.severity.value, "subject": item.subject, "measured": item.measured,
        "limit": item.limit, "limit_source": item.limit_source, "advice": item.advice,
        "caused_by": item.caused_by or None,
    }  # fmt: skip
