"""Writing to the terminal: results on stdout, progress and hints on stderr. The one place that knows about colour.

Colour is never the only signal: every verdict is also a word.
"""

from __future__ import annotations

import argparse
import json
import sys
from collections.abc import Iterable, Iterator, Sequence
from contextlib import contextmanager
from typing import Any, TextIO

from rich import box
from rich.console import Console
from rich.markup import escape
from rich.progress import BarColumn, Progress, TextColumn, TimeElapsedColumn
from rich.table import Table

from zentrale import quantities
from zentrale.cli.defects import write_report
from zentrale.findings import Finding, Severity, count_faults, worst_first
from zentrale.words import clean_lines

PIPE_WIDTH = 180  # columns where output is no terminal: wide enough that no cell is cut
_STYLES = {Severity.FAULT: "bold red", Severity.WARNING: "yellow", Severity.NOTE: "cyan"}
STATE_STYLES = {"ok": "green", "fault": "bold red", "warning": "yellow", "note": "cyan"}


class Output:
    """What one command run writes to."""

    def __init__(self, args: argparse.Namespace) -> None:
        self.json = bool(getattr(args, "json", False))
        self.quiet = bool(args.quiet)
        no_color = True if args.no_color else None
        self.out = self._console(sys.stdout, no_color)
        self.err = self._console(sys.stderr, no_color)

    @staticmethod
    def _console(stream: TextIO, no_color: bool | None) -> Console:
        width = None if stream.isatty() else PIPE_WIDTH
        return Console(file=stream, width=width, no_color=no_color, highlight=False, soft_wrap=False, emoji=False)

    # Messages

    def line(self, text: str = "", style: str = "") -> None:
        """A line of the result."""
        if not self.json:
            self.out.print(_safe(text), style=style or None, soft_wrap=True)

    def heading(self, text: str) -> None:
        self.line()
        self.line(text, "bold")

    def hint(self, text: str) -> None:
        """Something worth knowing that is not a result: what is going on, what comes next."""
        if not self.quiet:
            self.err.print(_safe(text), style="dim", soft_wrap=True)

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
        """Columns whose title begins with ">" are numbers, set to the right. A cell may be `style|text`."""
        if self.json:
            return
        table = Table(box=box.SIMPLE_HEAD, pad_edge=False, show_edge=False, header_style="bold")
        for column in columns:
            table.add_column(
                escape(column.lstrip(">")), justify="right" if column.startswith(">") else "left", overflow="fold"
            )
        for row in rows:
            table.add_row(*[_cell(cell) for cell in row])
        self.out.print(table)

    def findings(self, findings: Iterable[Finding]) -> None:
        """Each finding as a short paragraph, worst first: what, where, measured against what, what to do. Identical ones
        of several subjects are told once.
        """
        if self.json:
            return
        for alike in _grouped(findings):
            item = alike[0]
            style = _STYLES[item.severity]
            word = item.severity.value.upper()
            kinds = {f.ref.kind.value if f.ref and not f.ref.part else "place" for f in alike}
            noun = kinds.pop() if len(kinds) == 1 else "place"
            subject = item.subject if len(alike) == 1 else quantities.count(len(alike), noun)
            self.out.print(
                f"[{style}]{word:<7}[/] [bold]{item.code}[/]  {_safe(subject)}: {_safe(item.title)}", soft_wrap=True
            )
            if len(alike) > 1:
                self.out.print(f"         where:    {_safe('; '.join(f.subject for f in alike))}", soft_wrap=True)
            self.out.print(f"         found:    {_safe(item.measured)}", soft_wrap=True)
            self.out.print(
                f"         expected: {_safe(item.limit)} [dim]({_safe(item.limit_source)})[/]", soft_wrap=True
            )
            self.out.print(f"         do:       {_safe(item.advice)}", soft_wrap=True)

    def reports(self, reports: Sequence[str], site: str | None) -> None:
        """Reports of defects of ours that ended the work on single devices: into a file, and its path told."""
        if reports:
            path = write_report(reports, site)
            self.notice(f"report of what this program failed on: {path or 'could not be written'}")

    def verdict(self, findings: Sequence[Finding], good: str) -> None:
        """The most important line, last, where the eye is when a command ends."""
        faults = count_faults(findings)
        warnings = sum(f.severity is Severity.WARNING for f in findings)
        self.line()
        if not faults and not warnings:
            self.line(f"OK  {good}", "bold green")
            return
        counts = ((faults, "fault"), (warnings, "warning"))
        text = ", ".join(quantities.count(number, noun) for number, noun in counts if number)
        codes = ", ".join(dict.fromkeys(f.code for f in worst_first(findings) if f.severity is not Severity.NOTE))
        style = "bold red" if faults else "bold yellow"
        self.line(f"{'FAULTS' if faults else 'WARNINGS'}  {text}: {codes}   (`zentrale explain CODE` says more)", style)

    # Progress

    @contextmanager
    def progress(self, title: str, total: int) -> Iterator[Any]:
        """Yields a function to call with the number done; shown only on a terminal."""
        if self.quiet or self.json or not self.err.is_terminal:
            yield lambda done, text="": None
            return
        columns = (
            TextColumn("{task.description}"),
            BarColumn(30),
            TextColumn("{task.completed}/{task.total}"),
            TimeElapsedColumn(),
        )
        with Progress(*columns, console=self.err, transient=True) as bar:
            task = bar.add_task(title, total=total)
            yield lambda done, text="": bar.update(task, completed=done, description=f"{title} {text}".strip())


def _cell(cell: str) -> str:
    style, mark, text = cell.partition("|")
    if mark and style in STATE_STYLES:
        return f"[{STATE_STYLES[style]}]{_safe(text)}[/]"
    return _safe(cell)


def _safe(text: str) -> str:
    """Text from wherever, as it may go to a terminal: no markup, no control characters."""
    return escape(clean_lines(text))


def _grouped(findings: Iterable[Finding]) -> list[list[Finding]]:
    groups: dict[tuple[str, ...], list[Finding]] = {}
    for item in worst_first(findings):
        groups.setdefault((item.code, item.measured, item.limit, item.limit_source, item.advice), []).append(item)
    return list(groups.values())


def finding_document(item: Finding) -> dict[str, str]:
    return {
        "code": item.code, "severity": item.severity.value, "subject": item.subject, "measured": item.measured,
        "limit": item.limit, "limit_source": item.limit_source, "advice": item.advice,
    }  # fmt: skip
