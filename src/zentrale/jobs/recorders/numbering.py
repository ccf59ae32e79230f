"""Which of a recorder's recordings is which channel: worked out once, kept, and used from then on.

ONVIF Recording Control knows tokens, no channel numbers, and promises no order of its lists. What tells a number is, in this
order: what was kept before; the recordings' own names, where all have one form that differs in the number alone; their tokens,
where these have and the numbers run without a gap; the order of the list.
"""

from __future__ import annotations

import re
from collections.abc import Collection, Mapping, Sequence
from dataclasses import dataclass, field
from enum import Enum

from zentrale.protocols.onvif.recording import Recording

_DIGITS = re.compile(r"(\d+)")
_MOST = 4096  # a number beyond that is no channel's


class Rule(Enum):
    """By what a recording's number is known, in words for a person."""

    NAMES = "by the recorder's own names"
    TOKENS = "by their tokens"
    ORDER = "by the order of its list"


@dataclass(frozen=True)
class Kept:
    """A channel as it was numbered first: `name` is the recording's own then, `had_job` whether it came with a job."""

    number: int
    token: str
    name: str = ""
    had_job: bool = False
    rule: Rule = Rule.ORDER


@dataclass(frozen=True)
class Numbering:
    """The channels by number. `rule` is that by which they were numbered first.

    gone:        those whose recordings are in the list no more
    against:     in words, where names and order contradict each other; empty where they do not
    """

    channels: Mapping[int, Kept]
    rule: Rule
    gone: tuple[Kept, ...] = ()
    against: str = ""
    recordings: Mapping[int, Recording] = field(default_factory=dict, compare=False)

    def number_of(self, token: str) -> int | None:
        return next((n for n, kept in self.channels.items() if kept.token == token), None)


def numbered(
    recordings: Sequence[Recording], with_jobs: Collection[str], ours: Collection[str], kept: Sequence[Kept] = ()
) -> Numbering:
    """The channel of each recording.

    with_jobs: tokens of the recordings that have a job; ours: names that people or this program gave: cameras' names
    kept:      as it was worked out before; where none of these is left the recorder was emptied, and it is worked out anew
    """
    by_token = {item.token: item for item in recordings}
    present = {k.number: k for k in kept if k.token in by_token}
    gone = tuple(k for k in kept if k.token not in by_token)
    if present:
        return _continued(recordings, with_jobs, present, gone)
    rule, numbers = _first(recordings, ours)
    channels = {
        n: Kept(n, item.token, item.name, item.token in with_jobs, rule)
        for n, item in zip(numbers, recordings, strict=True)
    }
    against = ""
    odd = [(n, at) for at, n in enumerate(numbers, start=1) if rule is Rule.NAMES and n != at]
    if odd:
        n, at = odd[0]
        more = f", and {len(odd) - 1} more" if len(odd) > 1 else ""
        against = f'"{by_token[channels[n].token].name}" is number {at} of its list{more}'
    return Numbering(channels, rule, gone, against, {n: by_token[k.token] for n, k in channels.items()})


def _continued(
    recordings: Sequence[Recording], with_jobs: Collection[str], present: Mapping[int, Kept], gone: tuple[Kept, ...]
) -> Numbering:
    """What was kept, and a number for each recording that is new: the lowest that is free, in the order of the list."""
    channels, taken = dict(present), {k.token for k in present.values()}
    for item in (r for r in recordings if r.token not in taken):
        number = next(n for n in range(1, len(recordings) + len(present) + 2) if n not in channels)
        channels[number] = Kept(number, item.token, item.name, item.token in with_jobs, Rule.ORDER)
    by_token = {item.token: item for item in recordings}
    rule = next(iter(present.values())).rule
    gone = tuple(k for k in gone if k.number not in channels)
    return Numbering(channels, rule, gone, "", {n: by_token[k.token] for n, k in channels.items()})


def _first(recordings: Sequence[Recording], ours: Collection[str]) -> tuple[Rule, list[int]]:
    names = [item.name for item in recordings]
    if not any(name in ours for name in names):
        numbers = _numbers(names)
        if numbers and min(numbers) >= 1:
            return Rule.NAMES, numbers
    numbers = _numbers([item.token for item in recordings])
    if numbers and sorted(numbers) in (list(range(len(numbers))), list(range(1, len(numbers) + 1))):
        return Rule.TOKENS, [n + (min(numbers) == 0) for n in numbers]
    return Rule.ORDER, list(range(1, len(recordings) + 1))


def _numbers(texts: Sequence[str]) -> list[int]:
    """The number that each text tells, where all are of one form that differs in one number alone, and no two tell the same;
    else nothing. One text alone shows no form.
    """
    parts = [_DIGITS.split(text.strip()) for text in texts]
    if len(parts) < 2 or len({len(p) for p in parts}) != 1:
        return []
    differ = [at for at in range(len(parts[0])) if len({_plain(p[at]) for p in parts}) > 1]
    if len(differ) != 1 or differ[0] % 2 == 0:
        return []
    words = [p[differ[0]] for p in parts]
    numbers = [int(text) for text in words if len(text) < 10]
    return numbers if len(set(numbers)) == len(texts) and max(numbers) <= _MOST else []


def _plain(part: str) -> str:
    """Numbers may be written with noughts before them."""
    return part.lstrip("0") or "0" if part.isdigit() else part
