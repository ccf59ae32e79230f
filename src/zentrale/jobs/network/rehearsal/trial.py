"""Who reaches whom: packets of every kind between all legs, and where they differ from the plan."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator, Sequence
from dataclasses import dataclass, field
from functools import partial
from typing import TypeVar

from zentrale.field.lab import beginnings, probing
from zentrale.field.lab.beginnings import Beginning
from zentrale.field.lab.probing import Arrived, Pair, Wire
from zentrale.field.lab.stations import Leg
from zentrale.jobs.network.rehearsal import edges
from zentrale.jobs.network.rehearsal.edges import Service
from zentrale.jobs.network.rehearsal.stage import Stage
from zentrale.planning.reach import RTSP, Party, reaches, reaches_at_layer_2, wanted_between
from zentrale.site.model import INTERNET, Recorder

AT_LAYER_2 = ("arp", "ipv6", "multicast")
THROUGH = "through "  # kind of packets that are handed to a recorder, to pass on
OTHER_LEG = "asked at its other leg"  # and of those that are for the recorder's own other address
_ROUNDS, _PROOFS = 12, 2  # of trying again: at most, and those that prove something
_WITNESSES = 12
_FEW = 400  # connections at a time
_ASKERS = 4
_NOBODY = "02:5a:fc:ff:ff:ff"
_STORM = 8  # copies of one frame at one port: a way around takes it on for ever, a ring that heals a few

T = TypeVar("T")


@dataclass(frozen=True)
class Differing:
    """One pair whose packets of one kind went otherwise than planned; `came` says how."""

    origin: Leg
    to: Leg
    kind: str
    came: bool
    planned: str

    @property
    def service(self) -> Service | None:
        """What a router is asked about it; None within one network."""
        protocol, _, port = self.kind.partition("/")
        return (protocol, int(port)) if port.isdigit() else edges.ECHO if protocol == "icmp" else None


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
    """`open`: how many packets this machine did not carry, beside others that arrive; of their pairs nothing is said."""

    cells: tuple[PartyCell, ...]
    differing: tuple[Differing, ...]
    packets: int
    open: int = 0


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


def arriving(
    asked: Sequence[T], must: Callable[[T], bool], came: set[T], send: Callable[[Sequence[T]], set[T]]
) -> tuple[set[T], set[T]]:
    """What arrives of what is asked, and what of it is left open; `came` did at once. What should have and did not is sent again,
    beside some that did: switches in user space drop what is too much for this machine, and that is nobody's fault. Only rounds
    in which all of those arrive once more prove that the others are lost.
    """
    proofs, came = 0, set(came)
    witnesses = [item for item in asked if item in came]
    witnesses = witnesses[:: max(1, len(witnesses) // _WITNESSES)]
    left = [item for item in asked if item not in came and must(item)]
    for _ in range(_ROUNDS):
        if not left or proofs == _PROOFS:
            return came, set()
        again = send([*left, *witnesses])
        proofs = 0 if again - came else proofs + again.issuperset(witnesses)
        came |= again
        left = [item for item in left if item not in came]
    return came, set(left) if proofs < _PROOFS else set()


class Trial:
    """All packets of one rehearsal. `wire` has all legs, `rules` are the router's as they stand. Not `routed`: what passes
    between networks is not tried, since what keeps it apart could not be put there.
    """

    def __init__(self, stage: Stage, wire: Wire, rules: str, *, routed: bool) -> None:
        self._stage, self._wire, self._rules = stage, wire, rules
        self._arrived = Arrived()
        self._open: set[tuple[str, Pair]] = set()
        everything = pairs_of(stage)
        self._near = [pair for pair in everything if _one_network(stage, pair)]
        self._far = [pair for pair in everything if not _one_network(stage, pair)] if routed else []
        self._inside = [p for p in everything if not self._outside(p)] if routed else self._near

    def _outside(self, pair: Pair) -> bool:
        return INTERNET in (self._stage.places[pair[0]].party.zone, self._stage.places[pair[1]].party.zone)

    def run(self) -> Reached:
        """Raises LabError."""
        stage, wire = self._stage, self._wire
        # Frames to all come first: the switches know then where everybody is.
        for kind in AT_LAYER_2:
            self._try(kind, self._inside, lambda some, kind=kind: probing.frames_to_all(wire, kind, some))  # type: ignore[misc]
        self._try("ipv6 to one", self._inside, lambda some: probing.unicast_ipv6(wire, some))
        self._connect()
        rtp = _kind(edges.RTP)
        self._try(rtp, self._near, lambda some: probing.udp(some, stage.legs, stage.spaces, edges.RTP[1]))
        self._begin()
        self._ask_at_the_other_leg()
        return self._judged()

    def _connect(self) -> None:
        """Whole connections, whose answers come back: within networks, and wherever a router lets one begin."""
        spaces = self._stage.spaces
        by_service = {RTSP: [*self._near, *self._allowed(RTSP)]}
        for service in edges.named(self._stage.net.plan, ""):
            if service[0] == "tcp" and service != RTSP:
                by_service[service] = [
                    p for p in self._allowed(service) if " for " in expected(self._stage, p, _kind(service))[2]
                ]
        asked = [(pair, service[1]) for service, pairs in by_service.items() for pair in pairs]
        with probing.answering(self._stage.legs, spaces, list(dict.fromkeys(port for _, port in asked))):
            came, left = arriving(
                asked,
                lambda item: expected(self._stage, item[0], f"tcp/{item[1]}")[1],
                probing.connections(asked, spaces),
                lambda some: set().union(
                    *(probing.connections(some[at : at + _FEW], spaces, tries=1) for at in range(0, len(some), _FEW))
                ),
            )
        self._open |= {(f"tcp/{port}", pair) for pair, port in left}
        for service, pairs in by_service.items():
            self._arrived.note(_kind(service), pairs, [p for p in pairs if (p, service[1]) in came])

    def _allowed(self, service: Service) -> list[Pair]:
        return [pair for pair in self._far if expected(self._stage, pair, _kind(service))[1]]

    def _begin(self) -> None:
        """First packets between networks: of what is named by all pairs, at other ports by each device once in either part; and
        packets for the network of a recorder's one leg, handed to the other.
        """
        plan = self._stage.net.plan
        asked: dict[str, list[Beginning]] = {}
        for service in edges.named(plan, self._rules):
            done = self._arrived.tried.get(_kind(service), set())
            asked[_kind(service)] = self._handed(service, [pair for pair in self._far if pair not in done])
        by_cell: dict[tuple[Party, Party], list[Pair]] = {}
        for a, b in self._far:
            by_cell.setdefault((self._stage.places[a].party, self._stage.places[b].party), []).append((a, b))
        for number, service in enumerate(edges.strangers(plan, self._rules)):
            covering = [pair for pairs in by_cell.values() for pair in _each_once(pairs, number)]
            asked[_kind(service)] = self._handed(service, covering)
        asked |= self._to_recorders() if self._far else {}
        every = [b for some in asked.values() for b in some]
        must = {b for kind, some in asked.items() for b in some if expected(self._stage, (b.origin, b.to), kind)[1]}
        send = partial(beginnings.arrived, self._wire)
        came, left = arriving(every, must.__contains__, send(every), send)
        self._open |= {(kind, (b.origin, b.to)) for kind, some in asked.items() for b in some if b in left}
        for kind, some in asked.items():
            tried = [(b.origin, b.to) for b in some]
            self._arrived.note(kind, tried, [(b.origin, b.to) for b in some if b in came])

    def _handed(self, service: Service, pairs: Sequence[Pair]) -> list[Beginning]:
        """To each one's gateway. Whoever has no way out sends nothing: to nobody's MAC address, where nothing arrives."""
        ways = self._stage.gateways
        return [Beginning(a, b, *service, ways.get(a, _NOBODY)) for a, b in pairs]

    def _to_recorders(self) -> dict[str, list[Beginning]]:
        stage, found = self._stage, {}
        for recorder in stage.net.plan.recorders:
            station = stage.stations.get(recorder.name)
            if station is None or len(station.legs) < 2:
                continue
            asked = []
            for entry, leaving in (station.legs, station.legs[::-1]):
                near, beyond = (
                    [x for x in stage.inside_legs() if x.station != recorder.name and _zones_meet(stage, x, leg)]
                    for leg in (entry, leaving)
                )
                some = _each_once([(a, b) for a in near for b in beyond if a.station != b.station], 0)
                asked += [Beginning(a, b, *edges.RTP, entry.mac) for a, b in some]
            found[f"{THROUGH}{recorder.name}"] = asked
        return found

    def _ask_at_the_other_leg(self) -> None:
        """A recorder's two legs: neither answers for the address of the other, which needs no forwarding at all."""
        asked: dict[Pair, str] = {}
        for recorder in self._stage.net.plan.recorders if self._far else ():
            legs = self._stage.stations[recorder.name].legs if recorder.name in self._stage.stations else ()
            for entry, other in (legs, legs[::-1]) if len(legs) == 2 and not recorder.forwards else ():
                near = [
                    x
                    for x in self._stage.inside_legs()
                    if x.station != recorder.name and _zones_meet(self._stage, x, entry)
                ]
                asked |= {(leg, other): entry.mac for leg in near[:_ASKERS]}
        if asked:
            self._arrived.note(OTHER_LEG, asked, beginnings.answered(self._wire, asked))

    def _try(self, kind: str, pairs: Sequence[Pair], send: Callable[[Sequence[Pair]], set[Pair]]) -> None:
        if pairs:
            came, left = arriving(pairs, lambda pair: expected(self._stage, pair, kind)[1], send(pairs), send)
            self._arrived.note(kind, pairs, came)
            self._open |= {(kind, pair) for pair in left}

    def _judged(self) -> Reached:
        stage, arrived = self._stage, self._arrived
        cells: dict[tuple[Party, Party], PartyCell] = {}
        wrong: dict[tuple[Party, Party], set[Pair]] = {}
        came_by: dict[tuple[Party, Party], set[Pair]] = {}
        tried_by: dict[tuple[Party, Party], set[Pair]] = {}
        differing = []
        for kind, tried in arrived.tried.items():
            for pair in tried:
                if (kind, pair) in self._open:
                    continue
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
        count = sum(map(len, arrived.tried.values()))
        return Reached(tuple(_in_order(stage, cells.values())), tuple(differing), count, len(self._open))


def _kind(service: Service) -> str:
    return f"{service[0]}/{service[1]}" if service[1] else service[0]


def _each_once(pairs: Sequence[Pair], turn: int) -> Iterator[Pair]:
    """So many of these pairs that each leg begins once, and is begun with once; other ones at each turn."""
    origins, targets = (list(dict.fromkeys(legs)) for legs in zip(*pairs, strict=True)) if pairs else ([], [])
    known = set(pairs)
    for i in range(max(len(origins), len(targets))):
        pair = origins[i % len(origins)], targets[(i + turn) % len(targets)]
        if pair in known:
            yield pair


def _one_network(stage: Stage, pair: Pair) -> bool:
    zones = [stage.places[leg].party.zone for leg in pair]
    return INTERNET not in zones and len({stage.net.plan.zone(z).family for z in zones}) == 1


def _zones_meet(stage: Stage, a: Leg, b: Leg) -> bool:
    """Whether a frame of the one may reach the other by the plan."""
    return reaches_at_layer_2(stage.net.plan, stage.places[a].party, stage.places[b].party)[0]


Expected = tuple[bool, bool, str]


def expected(stage: Stage, pair: Pair, kind: str) -> Expected:
    """Whether it may arrive, whether it must, and why: what the customer wants counts more than what the plan comes to."""
    key = stage.places[pair[0]].party, stage.places[pair[1]].party, kind
    if key not in stage.expected:
        stage.expected[key] = _expected(stage, *key)
    return stage.expected[key]


def _expected(stage: Stage, origin: Party, to: Party, kind: str) -> Expected:
    plan = stage.net.plan
    if kind.startswith(THROUGH):
        recorder: Recorder = plan.recorder(kind.removeprefix(THROUGH))
        return recorder.forwards, False, f"the legs of {recorder.name} stay apart"
    if kind == OTHER_LEG:
        return False, False, "a recorder's leg answers for its own address only"
    wanted = wanted_between(plan, origin, to)
    if wanted is False:
        return False, False, f"the customer wants it kept apart ([[reach]]); by the plan {reaches(plan, origin, to)[1]}"
    if wanted and kind == _kind(RTSP) and not reaches(plan, origin, to, RTSP)[0]:
        return True, True, f"the customer wants it ([[reach]]); by the plan {reaches(plan, origin, to)[1]}"
    if kind in AT_LAYER_2 or kind == "ipv6 to one":
        allowed, why = reaches_at_layer_2(plan, origin, to)
        return allowed, allowed and kind != "multicast", why  # a group of nobody need not arrive
    protocol, _, port = kind.partition("/")
    allowed, why = reaches(plan, origin, to, (protocol, int(port or 0)))
    # Through a recorder the answer has no way back that the plan knows of, and nobody is sent that way here.
    return allowed, allowed and not why.startswith("through "), why


def _cell(stage: Stage, cells: dict[tuple[Party, Party], PartyCell], key: tuple[Party, Party]) -> PartyCell:
    if key not in cells:
        plan = stage.net.plan
        cells[key] = PartyCell(*key, reaches(plan, *key)[0], wanted_between(plan, *key))
    return cells[key]


def _in_order(stage: Stage, cells: Iterable[PartyCell]) -> Iterator[PartyCell]:
    order = {party: i for i, party in enumerate(stage.net.reach.parties)}
    yield from sorted(cells, key=lambda c: (order.get(c.origin, 99), order.get(c.to, 99)))
