"""The least change that makes a machine bear a case that it does not bear."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from itertools import combinations
from math import comb

from zentrale import quantities
from zentrale.planning.walls.decoder import Load
from zentrale.planning.walls.panels import Panel
from zentrale.planning.walls.states import Cases, Chosen

Smaller = tuple[Panel, str]  # a panel, and the stream for it
_ALL_TRIED, _MOST_TRIED = 2, 120


def smaller(
    cases: Cases,
    chosen: Sequence[Chosen],
    case: Callable[[Sequence[Chosen]], Load],
    first: Callable[[Sequence[Chosen]], Load],
) -> tuple[Smaller, ...] | None:
    """The fewest panels that need a smaller stream for it, each with that, of several sets those of least importance; empty where
    it is borne as it is, None where not even all together would do. `first`: a part of the case that is quicker to see, and
    likely to break.

    Where one limit breaks, those that relieve it most are the fewest; sets of one or two are all tried whatever breaks.
    """
    breaks = case(chosen).breaks
    if not breaks:
        return ()
    least = [c.panel.offers[cases.decodable(c.panel)[0]] for c in chosen]
    able = [n for n, c in reversed(list(enumerate(chosen))) if c.offer != least[n]]

    def holds(some: Sequence[int]) -> bool:
        # In the decoder that has them now.
        changed = [Chosen(c.panel, least[n], c.engine) if n in some else c for n, c in enumerate(chosen)]
        return not first(changed).breaks and not case(changed).breaks

    if not holds(able):
        return None
    by_relief = sorted(able, key=lambda n: least[n].pixels_per_s - chosen[n].offer.pixels_per_s)
    fewest = next(size for size in range(1, len(able) + 1) if holds(by_relief[:size]))
    for size in range(1, fewest + 1):
        if size > _ALL_TRIED and (size < fewest or comb(len(able), size) > _MOST_TRIED):
            continue
        for some in combinations(able, size):
            if holds(some):
                return tuple((chosen[n].panel, least[n].stream) for n in sorted(some))
    return tuple((chosen[n].panel, least[n].stream) for n in sorted(by_relief[:fewest]))


def in_words(panels: Sequence[Smaller], *, several: bool) -> str:
    """As an instruction; with their walls where the machine feeds `several`."""
    by_stream: dict[str, list[str]] = {}
    for panel, stream in panels:
        name = f"{panel.name} of {panel.wall}" if several else panel.name
        by_stream.setdefault(stream, []).append(name)
    parts = [
        f"{'panels' if len(some) > 1 else 'panel'} {quantities.listed(some)} by the {stream} stream"
        for stream, some in by_stream.items()
    ]
    return "show " + ", and ".join(parts)
