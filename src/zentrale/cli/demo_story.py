"""A demo as a story: its steps told, the real commands run and printed as a person would type them."""

from __future__ import annotations

TYPE_CHECKING = False  # as typing has it, without the cost of importing typing
if TYPE_CHECKING:
    import argparse
    from collections.abc import Sequence
    from pathlib import Path
    from subprocess import Popen
    from typing import TextIO

    from zentrale.cli.output import Output


class Story:
    """`of` is how many steps it has; `folder` the site's."""

    of = 0

    def __init__(self, output: Output, folder: Path, args: argparse.Namespace) -> None:
        self.output = output
        self.folder = folder
        self.args = args
        self.steps = self.commands = 0

    def _step(self, what: str) -> None:
        """Begin the next step of the story; with --pause not before the person wants it."""
        import sys

        if self.args.pause and self.steps and sys.stdin.isatty():
            sys.stderr.write("Enter for the next step: ")
            sys.stderr.flush()
            sys.stdin.readline()
        self.steps += 1
        self.output.line()
        self.output.line(f"{self.steps} of {self.of}  {what}", "bold")

    def _kept(self, name: str) -> TextIO:
        """A file beside the site's, for what is not told on the terminal."""
        kept = self.folder / "output" / "demo" / f"{name}.txt"
        kept.parent.mkdir(parents=True, exist_ok=True)
        return kept.open("w+", encoding="utf-8")

    def _command(
        self,
        *arguments: str,
        folder: str | None = "",
        password: str = "",
        privacy: str = "",
        expected: tuple[int, ...] = (0,),
    ) -> None:
        """Run one command as its user would, in a process of its own, and print it and its output."""
        import os
        import shlex
        import subprocess
        import sys

        from zentrale.errors import InputError

        self.output.line(f"$ zentrale {shlex.join(arguments)}", "cyan")
        sys.stdout.flush()
        environment = {**os.environ, "COLUMNS": "120"}
        if password:
            environment["ZENTRALE_PASSWORD"] = password
        if privacy:
            environment["ZENTRALE_PRIVACY_PASSWORD"] = privacy
        self.commands += 1
        with self._kept(f"{self.commands:02}-{arguments[0]}") as file:
            child = subprocess.Popen(
                [sys.executable, "-m", "zentrale", *arguments, "--no-color"], stdout=file, stderr=subprocess.STDOUT,
                cwd=self.folder if folder is not None else None, env=environment, stdin=subprocess.DEVNULL,
            )  # fmt: skip
            try:
                code = child.wait()
            except BaseException:
                end(child)  # Ctrl-C reached it too; it is not left to end on its own
                raise
            file.seek(0)
            said = file.read()
        self._tell(arguments, said)
        if code not in expected:
            raise InputError(
                f"zentrale {arguments[0]} ended with exit code {code}",
                f"{said[-400:].strip()}; this is not as the demo goes; see {self.folder / 'output' / 'demo'}",
            )

    def _tell(self, arguments: Sequence[str], said: str) -> None:
        """The lines that matter of what a command said: its verdict, and what is wrong, without what was expected."""
        lines = [line for line in said.splitlines() if line and not line.startswith(("next:", "searching"))]
        begins = ("OK", "FAULTS", "WARNINGS", "NOT JUDGED", "$ zentrale")
        verdicts = [line for line in lines if line.startswith(begins)] or lines[:1]
        for verdict in verdicts:
            self.output.line(f"  {verdict}")
        more = [] if arguments[0] == "handover" else lines  # they were all told before
        finding = ""
        for line in [*more, ""]:
            if line.startswith(("FAULT ", "WARNING ")):
                finding = line
            elif finding and line.startswith("     ") and " (expected" not in finding and "do: " not in line:
                finding += f" {line.strip()}"
            elif finding:
                self.output.line(f"  {' '.join(finding.partition(' (expected')[0].split())}")
                finding = ""


def end(process: Popen[str] | Popen[bytes]) -> None:
    """Wait for a process that was told to end; one that does not is killed."""
    import subprocess

    try:
        process.wait(timeout=10)
    except subprocess.TimeoutExpired:
        process.kill()
        process.wait()
