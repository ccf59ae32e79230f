"""What a wall asks of its machine in four cases: in the worst moment of its rounds, with all at their heaviest, with one panel
enlarged, and while all rounds change at once.

Arrays have an entry for each moment (`moments`).
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
import numpy.typing as npt

from zentrale import quantities
from zentrale.planning.walls.decoder import Decoded, Decoder, Load
from zentrale.planning.walls.moments import Ints, Moments
from zentrale.planning.walls.panels import Offer, Panel, pixel_rate
from zentrale.site.model import Plan, StreamPlan

Floats = npt.NDArray[np.float64]
_ROUNDED = 0.98  # of a pixel row or two that were lost to a bezel nobody is told


@dataclass(frozen=True)
class Chosen:
    """What a panel shows, and which decoder has it; empty where nothing is known of the machine."""

    panel: Panel
    offer: Offer
    engine: str

    def decoded(self, decoder: Decoder, camera: int) -> Decoded:
        """The stream of one of its cameras: by another decoder where its own does not know the codec."""
        plan = self.offer.plans[camera]
        if not decoder.engines or decoder.share(plan, self.engine) < np.inf:
            return plan, self.engine
        return plan, decoder.place(plan, {})


@dataclass(frozen=True)
class States:
    worst: Load
    together: Load
    enlarged: Load
    changing: Load


class Cases:
    """The cases of one wall, for any choice of streams."""

    def __init__(self, plan: Plan, panels: Sequence[Panel], moments: Moments, decoder: Decoder) -> None:
        self.plan, self.panels, self.moments, self.decoder = plan, panels, moments, decoder
        self._mains = [tuple(plan.streams(c)["main"] for c in p.cameras) for p in panels]
        self._made: dict[tuple[int, str, str], Floats] = {}
        self._columns: dict[tuple[int, str], Floats] = {}
        self._moments_of_main: dict[int, list[tuple[StreamPlan, npt.NDArray[np.intp]]]] = {}

    def all(self, chosen: Sequence[Chosen]) -> States:
        return States(self.worst(chosen), self.together(chosen), self.enlarged(chosen), self.changing(chosen))

    def decodable(self, panel: Panel) -> list[int]:
        """The offers that some decoder knows, smallest first; all of them where none is known."""
        decoder = self.decoder
        known = [
            index
            for index, offer in enumerate(panel.offers)
            if not decoder.engines
            or all(any(decoder.share(p, e) < np.inf for e in decoder.engines) for p in offer.plans)
        ]
        return known or list(range(len(panel.offers)))

    def wished(self, panel: Panel) -> int:
        """The offer that is sharp enough at the least cost: more pixels than the panel has are wasted."""
        offers = panel.offers
        return max(self.decodable(panel), key=lambda i: (min(offers[i].sharpness, _ROUNDED), -offers[i].pixels_per_s))

    def weights(self, number: int, chosen: Chosen) -> Floats:
        """Of a panel in each moment, as shares of each limit (`names`), shape (limits, moments)."""
        key = number, chosen.offer.stream, chosen.engine
        if key not in self._made:
            by_camera = np.array(
                [self._shares(*chosen.decoded(self.decoder, i)) for i in range(len(chosen.offer.plans))]
            )
            self._made[key] = by_camera[self._shown(number, chosen.offer)].T
        return self._made[key]

    def _shown(self, number: int, offer: Offer) -> Ints:
        """Which of its cameras a panel shows in each moment."""
        return self.moments.shown[number] if self.moments.whole else np.array([offer.heaviest])

    @property
    def names(self) -> tuple[str, ...]:
        """Pixels a second stand last: they say which moment is the worst where no limit is known."""
        return ("streams", "bit rate", "memory", *self.decoder.engines, "pixels")

    def _column(self, plan: StreamPlan, engine: str) -> Floats:
        key = id(plan), engine
        if key not in self._columns:
            self._columns[key] = np.array(self._shares(plan, engine))[:, None]
        return self._columns[key]

    def _shares(self, plan: StreamPlan, engine: str) -> list[float]:
        kind, decoder = self.decoder.kind, self.decoder
        of = (
            (1.0, kind.streams if kind else None), (plan.most_bps / 1e6, kind.mbps if kind else None),
            (self.decoder.memory(plan) / 1e6, kind.memory_mb if kind else None),
        )  # fmt: skip
        engines = [decoder.share(plan, e) if e == engine else 0.0 for e in decoder.engines]
        return [*(amount / most if most else 0.0 for amount, most in of), *engines, pixel_rate(plan)]

    def peak(self, chosen: Sequence[Chosen]) -> float:
        """The highest share of a limit in any moment."""
        total = sum((self.weights(n, c) for n, c in enumerate(chosen)), np.zeros((len(self.names), 1)))
        return float(total[:-1].max(initial=0.0))

    def worst(self, chosen: Sequence[Chosen]) -> Load:
        """As the rounds fall."""
        total = sum((self.weights(n, c) for n, c in enumerate(chosen)), np.zeros((len(self.names), 1)))
        at = _worst_of(total)
        running = [c.decoded(self.decoder, int(self._shown(n, c.offer)[at])) for n, c in enumerate(chosen)]
        begun = quantities.seconds(float(self.moments.at_s[at]))
        when = f"{begun} after the rounds begin" if self.moments.at_s[at] else "as the rounds begin"
        if not self.moments.whole:
            when = "sooner or later: the rounds hardly ever agree"
        elif len(self.moments.at_s) == 1:
            when = "always"
        return self.decoder.load(running, when)

    def together(self, chosen: Sequence[Chosen]) -> Load:
        running = [c.decoded(self.decoder, c.offer.heaviest) for c in chosen]
        return self.decoder.load(running, "each round at its heaviest camera")

    def enlarged(self, chosen: Sequence[Chosen]) -> Load:
        """One panel by its main stream in place of what it shows, while the others go on: the worst of all panels and moments."""
        number, at = self.enlarged_at(chosen)
        return self.one_enlarged(chosen, number, at)

    def enlarged_at(self, chosen: Sequence[Chosen]) -> tuple[int, int]:
        """Which panel, and in which moment."""
        total = sum((self.weights(n, c) for n, c in enumerate(chosen)), np.zeros((len(self.names), 1)))
        found: tuple[float, float, int, int] | None = None
        for number, one in enumerate(chosen):
            others = total - self.weights(number, one)
            for plan, mine in self._main_moments(number):
                here = others[:, mine]
                each = [here + self._column(plan, e) for e in self.decoder.engines or ("",)]
                # Software where hardware has no room for it, moment by moment.
                loads = each[0]
                for other in each[1:]:
                    over = loads[3:-1].max(axis=0) > np.maximum(1, other[3:-1].max(axis=0))
                    loads = np.where(over, other, loads)
                at = _worst_of(loads)
                rank = float(loads[:-1, at].max(initial=0.0)), float(loads[-1, at])
                if found is None or rank > found[:2]:
                    found = *rank, number, int(mine[at])
        assert found is not None
        return found[2:]

    def _main_moments(self, number: int) -> list[tuple[StreamPlan, npt.NDArray[np.intp]]]:
        """Each main stream of a panel's cameras, and the moments in which it would be the one."""
        if number not in self._moments_of_main:
            mains = self._mains[number]
            if not self.moments.whole:
                heaviest = max(mains, key=pixel_rate)
                self._moments_of_main[number] = [(heaviest, np.zeros(1, np.intp))]
                return self._moments_of_main[number]
            shown = self.moments.shown[number]
            some = [(plan, np.array([m is plan for m in mains])[shown]) for plan in {id(m): m for m in mains}.values()]
            self._moments_of_main[number] = [(plan, np.flatnonzero(when)) for plan, when in some if when.any()]
        return self._moments_of_main[number]

    def one_enlarged(self, chosen: Sequence[Chosen], number: int, at: int) -> Load:
        used: dict[str, float] = {}
        running = []
        for n, one in enumerate(chosen):
            if n != number:
                plan, engine = one.decoded(self.decoder, int(self._shown(n, one.offer)[at]))
                used[engine] = used.get(engine, 0.0) + self.decoder.share(plan, engine)
                running.append((plan, engine))
        mains = self._mains[number]
        if self.moments.whole:
            camera = int(self.moments.shown[number][at])
        else:
            camera = max(range(len(mains)), key=lambda i: pixel_rate(mains[i]))
        main = mains[camera]
        running.append((main, self.decoder.place(main, used)))
        panel = chosen[number].panel
        return self.decoder.load(running, f"{panel.name} ({panel.cameras[camera].name})")

    def changing(self, chosen: Sequence[Chosen]) -> Load:
        """Each round shows one camera and opens the next one: the pair that is heaviest."""
        used: dict[str, float] = {}
        running: list[Decoded] = []
        coming: list[StreamPlan] = []
        for one in chosen:
            plans = one.offer.plans
            first = one.offer.heaviest
            if one.panel.is_round:
                first = one.offer.heaviest_pair
                coming.append(plans[(first + 1) % len(plans)])
            plan, engine = one.decoded(self.decoder, first)
            used[engine] = used.get(engine, 0.0) + self.decoder.share(plan, engine)
            running.append((plan, engine))
        running += [(plan, self.decoder.place(plan, used)) for plan in coming]
        return self.decoder.load(running, "all rounds change at once" if coming else "always: nothing changes")


def _worst_of(total: Floats) -> int:
    """The moment with the highest share; of several that with most pixels, and of these the first."""
    share = total[:-1].max(axis=0)
    best = share >= share.max() - 1e-12
    return int(np.argmax(np.where(best, total[-1], -1.0)))
