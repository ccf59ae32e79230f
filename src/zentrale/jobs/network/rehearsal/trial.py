"""Who reaches whom: packets of every kind between all legs, and where they differ from the plan."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator, Sequence
from dataclasses import dataclass, field

from zentrale.field.lab import probing
from zentrale.field.lab.probing import Arrived, Pair, Wire
from zentrale.field.lab.stations import Leg
from zentrale.jobs.network.rehearsal.stage import Stage
from zentrale.planning.reach import RTSP, Party, reaches, reaches_at_layer_2, wanted_between
from zentrale.site.model import INTERNET, Plan

AT_LAYER_2 = ("arp", "ipv6", "multicast")
_RTP = ("udp", 5004)
_AGAIN, _FEW, _MANY = 2, 200, 2000  # rounds, pairs at a time, pairs beyond which it is no chance
_STORM = 8  # copies of one frame at one port: a way around takes it on for ever, a ring that heals a few


@dataclass(frozen=True)
class Differing:
    """One pair whose packets of one kind went otherwise than planned; `came` says how."""

    origin: Leg
    to: Leg
    kind: str
    came: bool
    planned: str


@dataclass
class PartyCell:
    """All pairs of two parties together: how many were tried, how many of them got through by any kind, and by which kinds."""

    origin: Party
    to: Party
    planned: bool
    wanted: bool | None
    tried: int = 0
    came: int = 0
    kinds: set[str] = field(default_factory=set)
    wrong: int = 0


@dataclass(frozen=True)
class Reached:
    cells: tuple[PartyCell, ...]
    differing: tuple[Differing, ...]
    packets: int
    storm: int = 0  # copies of one frame at one port, where they do not end


def services(plan: Plan) -> list[tuple[str, int]]:
    """RTSP and RTP, and whatever the router's rules name; of a range its first port."""
    found = [RTSP, _RTP]
    found += [(r.protocol, int(r.port.partition("-")[0])) for r in plan.rules if r.port]
    return list(dict.fromkeys(found))


def pairs_of(stage: Stage) -> list[Pair]:
    return [(a, b) for a in stage.legs for b in stage.legs if a.station != b.station]


def circles(stage: Stage, wire: Wire) -> int:
    """How many copies of one broadcast somebody gets: more than a few, and it goes round for ever. One leg of each zone asks, so
    that a network which carries that on is not made worse.
    """
    asked: dict[str, Leg] = {}
    for leg in stage.inside_legs():
        asked.setdefault(stage.places[leg].party.zone, leg)
    most = 0
    for leg in asked.values():
        most = max(most, probing.copies_of_one(wire, leg))
        if most >= _STORM:
            break
    return most if most >= _STORM else 0


def try_all(stage: Stage, wire: Wire, *, routed: bool) -> Reached:
    """Raises LabError. `wire` has the legs that are on a switch; not `routed`: what passes between networks is not tried, since
    what keeps it apart could not be put there.
    """
    pairs = [pair for pair in pairs_of(stage) if routed or _one_network(stage, pair)]
    inside = [(a, b) for a, b in pairs if INTERNET not in (stage.places[a].party.zone, stage.places[b].party.zone)]
    arrived = Arrived()
    asked = services(stage.net.plan)
    # Frames to all come first: the switches know then where everybody is.
    ways: dict[str, tuple[list[Pair], Callable[[Sequence[Pair]], set[Pair]]]] = {}
    for kind in AT_LAYER_2:
        ways[kind] = inside, lambda some, kind=kind: probing.frames_to_all(wire, kind, some)  # type: ignore[misc]
    ways["ipv6 to one"] = inside, lambda some: probing.unicast_ipv6(wire, some)
    for protocol, port in asked:
        if protocol == "tcp":
            ways[f"tcp/{port}"] = pairs, lambda some, port=port: probing.tcp(some, stage.spaces, port)  # type: ignore[misc]
        else:
            ways[f"udp/{port}"] = (
                pairs, lambda some, port=port: probing.udp(some, stage.legs, stage.spaces, port),  # type: ignore[misc]
            )  # fmt: skip
    with probing.answering(stage.legs, stage.spaces, [port for protocol, port in asked if protocol == "tcp"]):
        for kind, (some, send) in ways.items():
            arrived.note(kind, some, send(some))
            _again(stage, arrived, kind, send)
    return _judged(stage, arrived)


def _one_network(stage: Stage, pair: Pair) -> bool:
    zones = [stage.places[leg].party.zone for leg in pair]
    return INTERNET not in zones and len({stage.net.plan.zone(z).family for z in zones}) == 1


def _again(stage: Stage, arrived: Arrived, kind: str, send: Callable[[Sequence[Pair]], set[Pair]]) -> None:
    """What should have arrived and did not is tried again, a few at a time: a switch in user space drops what is too much for
    this machine, and that is nobody's fault.
    """
    for _ in range(_AGAIN):
        left = [p for p in arrived.tried[kind] if p not in arrived.pairs[kind] and expected(stage, p, kind)[1]]
        if not left or len(left) > _MANY:
            return
        for at in range(0, len(left), _FEW):
            arrived.note(kind, (), send(left[at : at + _FEW]))


def expected(stage: Stage, pair: Pair, kind: str) -> tuple[bool, bool, str]:
    """Whether it may arrive, whether it must, and why: what the customer wants counts more than what the plan comes to."""
    plan, (origin, to) = stage.net.plan, (stage.places[leg].party for leg in pair)
    wanted = wanted_between(plan, origin, to)
    if wanted is False:
        return False, False, f"the customer wants it kept apart ([[reach]]); by the plan {reaches(plan, origin, to)[1]}"
    if wanted and kind == f"{RTSP[0]}/{RTSP[1]}" and not reaches(plan, origin, to, RTSP)[0]:
        return True, True, f"the customer wants it ([[reach]]); by the plan {reaches(plan, origin, to)[1]}"
    if kind in AT_LAYER_2 or kind == "ipv6 to one":
        allowed, why = reaches_at_layer_2(plan, origin, to)
        return allowed, allowed and kind != "multicast", why  # a group of nobody need not arrive
    protocol, _, port = kind.partition("/")
    allowed, why = reaches(plan, origin, to, (protocol, int(port)))
    # Through a recorder the answer has no way back that the plan knows of: a datagram says that it forwards.
    return allowed, allowed and not (why.startswith("through ") and protocol == "tcp"), why


def _judged(stage: Stage, arrived: Arrived) -> Reached:
    cells: dict[tuple[Party, Party], PartyCell] = {}
    wrong: dict[tuple[Party, Party], set[Pair]] = {}
    came_by: dict[tuple[Party, Party], set[Pair]] = {}
    tried_by: dict[tuple[Party, Party], set[Pair]] = {}
    differing = []
    for kind, tried in arrived.tried.items():
        for pair in tried:
            came = pair in arrived.pairs[kind]
            may, must, why = expected(stage, pair, kind)
            key = stage.places[pair[0]].party, stage.places[pair[1]].party
            tried_by.setdefault(key, set()).add(pair)
            if came:
                came_by.setdefault(key, set()).add(pair)
                _cell(stage, cells, key).kinds.add(kind)
            if (came and not may) or (must and not came):
                differing.append(Differing(*pair, kind, came, why))
                wrong.setdefault(key, set()).add(pair)
    for key, pairs in tried_by.items():
        cell = _cell(stage, cells, key)
        cell.tried, cell.came, cell.wrong = len(pairs), len(came_by.get(key, ())), len(wrong.get(key, ()))
    order = {leg: i for i, leg in enumerate(stage.legs)}
    differing.sort(key=lambda d: (order[d.origin], order[d.to], d.kind))
    return Reached(tuple(_in_order(stage, cells.values())), tuple(differing), sum(map(len, arrived.tried.values())))


def _cell(stage: Stage, cells: dict[tuple[Party, Party], PartyCell], key: tuple[Party, Party]) -> PartyCell:
    if key not in cells:
        plan = stage.net.plan
        cells[key] = PartyCell(*key, reaches(plan, *key)[0], wanted_between(plan, *key))
    return cells[key]


def _in_order(stage: Stage, cells: Iterable[PartyCell]) -> Iterator[PartyCell]:
    order = {party: i for i, party in enumerate(stage.net.reach.parties)}
    yield from sorted(cells, key=lambda c: (order.get(c.origin, 99), order.get(c.to, 99)))
