"""Which stream each panel shows: each as sharp as its size asks for where the machine bears that in every moment; else the most
important ones first, solved exactly.

A mixed-integer programme: one variable for each panel, stream and decoder, one row for each limit and moment. Moments are brought
in as they break: of thousands only a few ever matter. Priority by priority the sum of sharpness is made as large as it can be and
then held. A larger stream that is no sharper in its panel is no choice at all.
"""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np

from zentrale.planning.walls.decoder import Decoder
from zentrale.planning.walls.panels import Panel
from zentrale.planning.walls.states import Cases, Chosen, Floats

_HELD = 1e-6


def choose(cases: Cases) -> tuple[tuple[Chosen, ...], bool]:
    """The choice, in the order of the panels, and whether the machine bears it; where it bears nothing, the smallest of all."""
    panels, decoder = cases.panels, cases.decoder
    best = _placed(cases, [cases.wished(p) for p in panels])
    if decoder.kind is None or cases.peak(best) <= 1 + 1e-9:
        return best, True
    solved = _solved(cases)
    if solved is not None:
        return solved, True
    return _placed(cases, [cases.decodable(p)[0] for p in panels]), False


def _placed(cases: Cases, offers: Sequence[int]) -> tuple[Chosen, ...]:
    """With the decoder for each: hardware in the order of importance, as far as there is room in every moment."""
    found: list[Chosen] = []
    used = {e: np.zeros(1) for e in (*cases.decoder.engines, "")}
    for number, (panel, index) in enumerate(zip(cases.panels, offers, strict=True)):
        options = _options(cases.decoder, panel, index)
        after = [_with(cases, number, one, used) for one in options]
        room = [n for n, share in enumerate(after) if float(share.max()) <= 1 + 1e-9]
        which = next(iter(room), 0)  # where nowhere is room, that is told of the first
        used[options[which].engine] = after[which]
        found.append(options[which])
    return tuple(found)


def _with(cases: Cases, number: int, one: Chosen, used: dict[str, Floats]) -> Floats:
    """What its decoder is taken of with this panel, in each moment."""
    own = cases.weights(number, one)[cases.names.index(one.engine)] if one.engine else np.zeros(1)
    return used[one.engine] + own


def _options(decoder: Decoder, panel: Panel, index: int) -> list[Chosen]:
    """The decoders that know its codecs."""
    offer = panel.offers[index]
    knowing = [e for e in decoder.engines if any(decoder.share(p, e) < np.inf for p in offer.plans)]
    return [Chosen(panel, offer, engine) for engine in knowing or [""]]


def _solved(cases: Cases) -> tuple[Chosen, ...] | None:
    from zentrale.planning.solver import Rows, solve  # a solver takes a while to load

    columns = [(number, one) for number, panel in enumerate(cases.panels) for one in _worth(cases, number, panel)]
    weights = [cases.weights(number, one) for number, one in columns]
    sharp = np.array([one.offer.sharpness for _, one in columns])
    wished = _placed(cases, [cases.wished(p) for p in cases.panels])
    best = sum((cases.weights(n, c) for n, c in enumerate(wished)), np.zeros(1))
    moments = _broken(best[:-1])
    held: list[tuple[np.ndarray, float]] = []
    levels = sorted({panel.plan.priority for panel in cases.panels})
    chosen: tuple[Chosen, ...] | None = None
    for level in levels:
        own = np.array([cases.panels[n].plan.priority == level for n, _ in columns])
        costs = np.where(own, -sharp, 0.0)
        while True:  # each turn adds a moment, and there are only so many
            rows = Rows()
            for number in range(len(cases.panels)):
                mine = [i for i, (n, _) in enumerate(columns) if n == number]
                rows.add(mine, [1.0] * len(mine), 1, 1)
            for limit, at in moments:
                some = [float(min(9.0, w[limit, at])) for w in weights]
                rows.add(list(range(len(columns))), some, -np.inf, 1)
            for line, least in held:
                rows.add(list(range(len(columns))), line.tolist(), least, np.inf)
            found = solve(costs, rows, np.ones(len(columns)), whole=True)
            if found.values is None:
                return None
            taken = np.flatnonzero(found.values > 0.5)
            chosen = tuple(columns[i][1] for i in sorted(taken, key=lambda i: columns[i][0]))
            total = sum((weights[i] for i in taken), np.zeros((len(cases.names), 1)))[:-1]
            fresh = [row for row in _broken(total) if row not in moments]
            if not fresh:
                break
            moments += fresh
        held.append((np.where(own, sharp, 0.0), -found.cost - _HELD))
    return chosen


def _worth(cases: Cases, number: int, panel: Panel) -> list[Chosen]:
    """What can be chosen for it: nothing that another one of the same decoder beats, as sharp and asking no more of any limit."""
    found: list[Chosen] = []
    offers = panel.offers
    for index in sorted(cases.decodable(panel), key=lambda i: (-offers[i].sharpness, offers[i].pixels_per_s)):
        for one in _options(cases.decoder, panel, index):
            own = cases.weights(number, one)[:-1]
            beaten = any(
                (cases.weights(number, other)[:-1] <= own + 1e-12).all()
                for other in found
                if other.engine == one.engine and other.offer.sharpness >= one.offer.sharpness - 1e-12
            )
            if not beaten:
                found.append(one)
    return found


def _broken(total: Floats) -> list[tuple[int, int]]:
    """Limits that are not kept, each with its worst moment."""
    return [(limit, int(total[limit].argmax())) for limit in range(len(total)) if total[limit].max() > 1 + 1e-9]
