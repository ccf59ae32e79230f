"""The only place that works on many devices at once. What goes wrong with one, of whatever kind, ends only that one.

An error of this machine (a full disk) or of the person (the vault's passphrase was changed) concerns all: it ends the run.
"""

from __future__ import annotations

import asyncio
import logging
import traceback
from collections.abc import Awaitable, Callable, Sequence
from contextlib import AbstractAsyncContextManager, nullcontext
from dataclasses import dataclass
from typing import Generic, TypeVar

from zentrale.errors import DeviceError, PassphraseChangedError, StorageError, Whose, ZentraleError
from zentrale.field.connection import reason

log = logging.getLogger(__name__)
OUT_OF_TIME = "the time given to one device"
T = TypeVar("T")
R = TypeVar("R")


@dataclass(frozen=True)
class Failure(Generic[T]):
    """What ended the work on one item. `report` is for whoever mends the program: only where it is a defect of ours."""

    item: T
    whose: Whose
    message: str
    advice: str = ""
    report: str = ""
    error: Exception | None = None


async def run(
    items: Sequence[T],
    work: Callable[[T], Awaitable[R]],
    *,
    at_once: int,
    budget_s: float | None,
    done: Callable[[T], None] = lambda item: None,
    share_of: Callable[[T], str] | None = None,
    at_once_of_share: int = 1,
) -> list[R | Failure[T]]:
    """`work` on all `items`, `at_once` of them at a time, each for `budget_s` at the most (None: as long as it takes).

    share_of: what an item has in common with others, such as its switch; of one share no more than `at_once_of_share` at a time

    Returns each one's result or its failure, in the order of `items`. Raises what concerns all of them.
    """
    gate = asyncio.Semaphore(at_once)
    shares: dict[str, asyncio.Semaphore] = {}

    def share(item: T) -> AbstractAsyncContextManager[None]:
        if share_of is None:
            return nullcontext()
        return shares.setdefault(share_of(item), asyncio.Semaphore(at_once_of_share))

    async def one(item: T) -> R | Failure[T]:
        async with share(item), gate:  # who waits for its share keeps nobody else out
            try:
                async with asyncio.timeout(budget_s):
                    return await work(item)
            except (StorageError, PassphraseChangedError):
                raise
            except Exception as error:  # noqa: BLE001 - this is the place
                return failure(item, error, budget_s)
            finally:
                done(item)

    tasks = [asyncio.create_task(one(item)) for item in items]
    try:
        return await asyncio.gather(*tasks)
    except BaseException:
        for task in tasks:
            task.cancel()
        await asyncio.gather(*tasks, return_exceptions=True)
        raise


def failure(item: T, error: Exception, budget_s: float | None = None) -> Failure[T]:
    """An exception as that item's failure, with whose fault it is."""
    if isinstance(error, ZentraleError):
        # What is about a device is never what the person typed.
        whose = Whose.DEVICE if error.whose is Whose.INPUT and not isinstance(error, DeviceError) else error.whose
        return Failure(item, whose, error.what, error.advice, error=error)
    if isinstance(error, TimeoutError):
        message = f"not done within {budget_s:g} s, {OUT_OF_TIME}" if budget_s else "no answer in time"
        return Failure(item, Whose.DEVICE, message, error=error)
    if isinstance(error, OSError):
        return Failure(item, Whose.NETWORK, f"connection failed: {reason(error)}", error=error)
    report = "".join(traceback.format_exception(error))
    log.debug("defect: %s", report)
    return Failure(
        item, Whose.DEFECT, f"this program failed on it ({type(error).__name__})", report=report, error=error
    )
