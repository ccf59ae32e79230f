"""One line of a work sheet: one fact, to be typed and ticked."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass


@dataclass(frozen=True)
class Line:
    """`where` in the switch's own page, in words; `ports` that it is about; `confirmed_by` is the finding that will tell, once
    the switches are read, whether it was done; empty where nothing can.
    """

    where: str
    enter: str
    why: str = ""
    ports: tuple[int, ...] = ()
    confirmed_by: str = ""


def numbers(some: Iterable[int]) -> str:
    """As people write them: 1-4, 7."""
    ordered, runs = sorted(set(some)), list[list[int]]()
    for number in ordered:
        if runs and number == runs[-1][-1] + 1:
            runs[-1].append(number)
        else:
            runs.append([number])
    return ", ".join(f"{r[0]}-{r[-1]}" if len(r) > 2 else ", ".join(map(str, r)) for r in runs)


def ports(some: Iterable[int]) -> str:
    """`port 7`, or `ports 1-4, 7`."""
    all_of = sorted(set(some))
    return f"port {all_of[0]}" if len(all_of) == 1 else f"ports {numbers(all_of)}"
