"""One place turns an exception into a message and an exit code."""

from __future__ import annotations

import argparse
import logging
import os
import sys
from collections.abc import Callable

from zentrale.cli.output import Output
from zentrale.errors import EXIT_INTERRUPTED, PlanError, ZentraleError


def guarded(run: Callable[[argparse.Namespace], int], args: argparse.Namespace) -> int:
    """Run a command. Deliberate errors become a message on stderr; defects keep their traceback."""
    level = logging.DEBUG if args.verbose else logging.ERROR
    logging.basicConfig(level=level, stream=sys.stderr, format="%(asctime)s %(name)s: %(message)s")
    for noisy in ("asyncio", "httpx", "httpcore", "PIL", "matplotlib"):
        logging.getLogger(noisy).setLevel(logging.ERROR)
    try:
        return run(args)
    except ZentraleError as error:
        output = Output(args)
        if isinstance(error, PlanError):
            for problem in error.problems:
                output.problem(problem)
        output.error(error.what, error.advice)
        return error.exit_code
    except KeyboardInterrupt:
        Output(args).error("interrupted", "what was done is in the journal; run the command again to go on")
        return EXIT_INTERRUPTED
    except BrokenPipeError:
        os.dup2(os.open(os.devnull, os.O_WRONLY), sys.stdout.fileno())
        return 0
