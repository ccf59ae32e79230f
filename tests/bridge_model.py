"""Switches as IEEE 802.1Q has them, and no more: who hears a frame to all, after each line of a work sheet that is entered."""

from __future__ import annotations

import re
from collections.abc import Iterator
from dataclasses import dataclass, field

from zentrale.planning.by_hand.order import Order, Place
from zentrale.planning.network import NetworkPlan

End = tuple[str, int]


@dataclass
class Port:
    """`untagged`: the VLAN that leaves without a tag and takes in what has none; `takes`: that it still takes such frames in."""

    untagged: int | None = 1
    takes: int | None = 1
    tagged: set[int] = field(default_factory=set)
    up: bool = True

    def out(self, vlan: int) -> str:
        return "" if not self.up else "tag" if vlan in self.tagged else "bare" if self.untagged == vlan else ""

    def into(self, how: str, vlan: int) -> int | None:
        if not self.up or not how:
            return None
        member = vlan in self.tagged or self.untagged == vlan
        return (vlan if member else None) if how == "tag" else self.takes


def numbers(text: str) -> list[int]:
    found = [(int(p.split("-")[0]), int(p.split("-")[-1])) for p in re.findall(r"\d+(?:-\d+)?", text)]
    return [n for first, last in found for n in range(first, last + 1)]


class Bridges:
    def __init__(self, net: NetworkPlan, order: Order, laptop: Place) -> None:
        self.net, self.laptop = net, laptop
        self.ports = {(r.switch, r.port): Port() for r in net.ports.rows}
        self.page = {s.name: 1 for s in net.plan.switches}
        self.wanted = net.vlan("management")
        self.bundles: dict[End, tuple[str, str]] = {}
        self.trees: set[str] = set()
        self.cables = {f"{link.a} - {link.b}": link.ends() for link in net.plan.links}
        self.never = {f"{net.plan.links[i].a} - {net.plan.links[i].b}" for i in order.never}
        later = {i for trunk in order.trunks for i in trunk.links[1:]} | set(order.waiting)
        self.out = {f"{net.plan.links[i].a} - {net.plan.links[i].b}" for i in later} | self.never

    def first(self, end: End) -> Port:
        """The port whose VLANs count: of a bundle its first."""
        own = self.bundles.get(end)
        return self.ports[next(e for e, name in self.bundles.items() if name == own) if own else end]

    def enter(self, switch: str, where: str, enter: str) -> None:
        found = re.fullmatch(r"ports: (\d+)", where)
        if found:
            self._vlans(self.first((switch, int(found[1]))), enter)
        elif where == "ports":
            for number in numbers(enter):
                self.ports[switch, number].up = False
        elif where.startswith("bundle "):
            self.bundles |= {(switch, n): (switch, where) for n in numbers(enter.partition(" into")[0])}
        elif where == "management: VLAN":
            self.page[switch] = numbers(enter)[0]
        elif where == "spanning tree: kind":
            self.trees.add(switch)
        elif where == "cables":
            for part in enter.removesuffix(" at once").split("; "):
                cables = set(re.sub(r"^(un)?plug (in )?", "", part).split(", "))
                self.out = self.out | cables if part.startswith("un") else self.out - cables

    @staticmethod
    def _vlans(port: Port, enter: str) -> None:
        tagged, untagged = (re.search(rf"\b{word} VLAN (\d+(?:, \d+)*)", enter) for word in ("tagged", "untagged"))
        carried = set(numbers(tagged[1])) if tagged else set[int]()
        if "stays" in enter:
            port.tagged = carried
        elif "still taken in" in enter:
            port.tagged, port.untagged = port.tagged | carried, None
        elif "tagged frames only" in enter:
            port.tagged, port.untagged, port.takes = carried or port.tagged, None, None
        else:
            assert untagged, enter
            port.tagged, port.untagged, port.takes = set(), int(untagged[1]), int(untagged[1])

    def _ways(self, switch: str) -> Iterator[tuple[Port, End, frozenset[str]]]:
        """Out of the switch: the port, the far end, and the cables that are as one. LACP needs a bundle at both ends."""
        done = set[object]()
        for name, ends in self.cables.items():
            for here, there in (ends, ends[::-1]):
                own, far = self.bundles.get(here), self.bundles.get(there)
                if here[0] != switch or name in self.out or (own is None) != (far is None) or (own or name) in done:
                    continue
                done.add(own or name)
                yield (
                    self.first(here),
                    there,
                    frozenset(n for n, e in self.cables.items() if own and here in e) | {name},
                )

    def pages(self) -> set[str]:
        """Those that hear the laptop, without a tag or with that of the pages; where frames go in circles none."""
        heard = set[tuple[str, int]]()
        for how in ("bare", "tag"):
            begun = self.ports[self.laptop.switch, self.laptop.port].into(how, self.wanted)
            todo, seen = [(self.laptop.switch, begun, "")] if begun else [], {(self.laptop.switch, begun)}
            while todo:
                switch, vlan, came = todo.pop()
                assert vlan is not None
                for port, there, cables in self._ways(switch):
                    got = self.first(there).into(port.out(vlan), vlan)
                    if got is None or came in cables:
                        continue
                    again = (there[0], got) in seen
                    if again and not self.trees:
                        return set()
                    if not again:
                        seen.add((there[0], got))
                        todo.append((there[0], got, next(n for n, e in self.cables.items() if there in e)))
            heard |= {(s, v) for s, v in seen if v is not None}
        return {name for name, vlan in self.page.items() if (name, vlan) in heard}

    def as_planned(self) -> None:
        """What is entered in the end is the plan's port table; the laptop's own port is on."""
        for row in self.net.ports.rows:
            port = self.first((row.switch, row.port))
            if (row.switch, row.port) == (self.laptop.switch, self.laptop.port):
                assert port.up and port.untagged == self.wanted
            elif row.mode == "access":
                assert (port.untagged, port.tagged) == (self.net.vlan(row.access), set()), row
            elif row.tagged:
                assert (port.untagged, port.takes, port.tagged) == (
                    None,
                    None,
                    {self.net.vlan(z) for z in row.tagged},
                ), row
            else:
                assert not port.up, row
        for switch in self.page:
            for bundle in self.net.bundles(switch):
                assert len({self.bundles.get((switch, port)) for port in bundle} - {None}) == 1, (switch, bundle)
                assert all((switch, port) in self.bundles for port in bundle), (switch, bundle)
        assert set(self.page.values()) == {self.wanted} and self.out == self.never
