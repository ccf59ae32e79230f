"""Libraries that write to the terminal past every option are kept from it."""

from __future__ import annotations

import contextlib
import os
import sys

TYPE_CHECKING = False  # as typing has it, without the cost of importing typing
if TYPE_CHECKING:
    from collections.abc import Iterator


@contextlib.contextmanager
def nothing_printed() -> Iterator[None]:
    """What is written to the process's standard output meanwhile is gone: it is no part of a command's result."""
    sys.stdout.flush()
    try:
        kept = os.dup(1)
    except OSError:  # it is closed: nothing comes of what is written
        yield
        return
    nowhere = os.open(os.devnull, os.O_WRONLY)
    try:
        os.dup2(nowhere, 1)
        yield
    finally:
        os.dup2(kept, 1)
        os.close(kept)
        os.close(nowhere)
