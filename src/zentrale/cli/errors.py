"""One place turns an exception into a message and an exit code."""

from __future__ import annotations

import argparse
import logging
import os
import sys
import traceback
from collections.abc import Callable
from pathlib import Path

from zentrale.cli.output import Output
from zentrale.errors import EXIT_DEFECT, EXIT_INTERRUPTED, InputError, PlanError, ZentraleError
from zentrale.protocols.http_auth import without_userinfo
from zentrale.words import clean_lines


def guarded(run: Callable[[argparse.Namespace], int], args: argparse.Namespace) -> int:
    """Run a command. Deliberate errors become a message on stderr; a defect becomes a report in a file."""
    level = logging.DEBUG if args.verbose else logging.ERROR
    handler = logging.StreamHandler(sys.stderr)
    handler.setFormatter(_CleanFormatter("%(asctime)s %(name)s: %(message)s"))
    logging.basicConfig(level=level, handlers=[handler])
    for noisy in ("asyncio", "httpcore", "PIL", "matplotlib", "filelock"):
        logging.getLogger(noisy).setLevel(logging.ERROR)
    logging.getLogger("zeroconf").setLevel(logging.CRITICAL)  # it tells of every odd packet that anybody sends
    try:
        _stand_somewhere()
        code = run(args)
        if Output.last is not None:
            Output.last.end()
        return code
    except ZentraleError as error:
        output = Output(args)
        if isinstance(error, PlanError):
            for problem in error.problems:
                output.problem(problem)
        output.error(error.what, error.advice)
        return error.exit_code
    except KeyboardInterrupt:
        how_far = f" after {Output.reached}" if Output.reached else ""
        Output(args).error(f"interrupted{how_far}", _after_interruption(args))
        return EXIT_INTERRUPTED
    except Exception as error:  # noqa: BLE001 - the one place; what comes here is a defect of ours
        if isinstance(error, BrokenPipeError):
            os.dup2(os.open(os.devnull, os.O_WRONLY), sys.stdout.fileno())
            return 0
        return _defect(error, args)


def _stand_somewhere() -> None:
    """Raises InputError where the current folder was deleted meanwhile."""
    try:
        Path.cwd()
    except OSError:
        raise InputError(
            "the current folder is no longer there", "change into a site folder, then this again"
        ) from None


def _after_interruption(args: argparse.Namespace) -> str:
    """What became of the work, and what to type to go on."""
    action = getattr(args, "action", None) or ""
    command = f"{args.command} {action}".strip()
    again = f"`zentrale {command}` again"
    if getattr(args, "undo", None) is not None:
        return f"what was taken back is in the journal; `zentrale register --undo {args.undo}` takes back what is left"
    if getattr(args, "dry_run", False):
        return f"nothing was written, and no device was changed; {again} begins anew"
    if command == "verify":
        if getattr(args, "address", None):
            return "nothing is kept of a stream outside of a site"
        if getattr(args, "wall", None):
            return f"nothing is kept of a wall that was not played to its end; `zentrale verify --wall {args.wall}` begins anew"
        return f"what was measured until now is kept; {again} measures everything"
    if command == "discover":
        if getattr(args, "follow", False):
            return "of what was followed nothing is kept; no device was changed"
        return f"what was found until now is kept, no device was changed; who is missing was not judged: {again}"
    if command == "assign":
        return f"what was answered until now is kept; {again} goes on with the rest"
    kept = _KEPT.get(command)
    return f"{kept}; {again}" if kept else f"no device was changed; {again} begins anew"


_JOURNAL = "what was changed is in the journal, and what was begun is looked at first next time"
_KEPT = {
    "register": "what was changed is in the journal; what is left goes on where it stopped",
    "vault rotate": "each password that was changed is in the vault; the rest goes on where it stopped",
    "restart": _JOURNAL,
    "firmware": f"a device that was sent its firmware goes on by itself: leave it its power; {_JOURNAL}",
    "backup": "the copies that are whole are kept; what was being restored may be half done: look at that device",
    "replace": _JOURNAL,
    "remove": _JOURNAL,
    "handover": "each file that was written is whole; some of the evidence pack may still be of before",
    "recordings save": "each film ends where it was stopped and can be played, with its JSON and in the logbook",
    "network write": "files that were written are whole, the others as they were",
    "network rehearse": "the rehearsal is taken down, and the site's files are as they were",
    "demo": "the stand-in site is stopped",
    "simulate": "the stand-in site is stopped",
}


def _defect(error: Exception, args: argparse.Namespace) -> int:
    """Three lines for the person, and a report in a file."""
    from zentrale.cli import defects

    path = defects.write_report(["".join(traceback.format_exception(error))], getattr(args, "site", None))
    where = f"a report without any password is in {path}" if path else "no report could be written"
    Output(args).error(
        f"this program failed ({type(error).__name__}): a defect of its own, not your input",
        f"{where}; send it to whoever maintains this program. What was done is in the journal",
    )
    return EXIT_DEFECT


class _CleanFormatter(logging.Formatter):
    """What devices say is harmless in the log, too; a traceback keeps its lines."""

    def format(self, record: logging.LogRecord) -> str:
        return clean_lines(without_userinfo(super().format(record)))
