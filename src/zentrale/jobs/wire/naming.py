"""Who an address in a capture is, in words of the plan; and what the plan says of two that talk to each other."""

from __future__ import annotations

from collections import Counter
from dataclasses import dataclass
from ipaddress import IPv4Address

from zentrale.jobs.wire.reading import WireRead
from zentrale.planning.reach import Party, ReachPlan, plan_reach
from zentrale.protocols.capture.layers import mac_text
from zentrale.site.model import Plan


@dataclass(frozen=True)
class Who:
    """`name` as a person reads it; `kind` camera, recorder, switch, group or unknown."""

    name: str
    kind: str = "unknown"
    party: Party | None = None
    more: str = ""  # its MAC address and maker, where nobody planned it

    @property
    def whole(self) -> str:
        return f"{self.name} ({self.more})" if self.more else self.name


class Names:
    """Of one reading. Without a plan everybody is unknown, by address."""

    def __init__(self, read: WireRead, plan: Plan | None) -> None:
        self.read = read
        self.plan = plan
        self._reach: ReachPlan | None = None
        self._known: dict[str, Who] = {}
        self._makers: dict[str, str] = {}
        if plan is not None:
            self._of_plan(plan)

    def _of_plan(self, plan: Plan) -> None:
        for camera in plan.networked:
            if camera.host and not camera.translated:
                self._known[camera.host] = Who(camera.name, "camera", Party("camera", camera.zone))
            if camera.mac:
                self._makers[camera.mac[:8]] = plan.maker(camera)
        for recorder in plan.recorders:
            for leg in recorder.legs():
                self._known[str(leg.address)] = Who(recorder.name, "recorder", Party("recorder", leg.zone))
        for switch in plan.switches:
            if switch.management is not None:
                address = str(switch.management.address)
                self._known[address] = Who(switch.name, "switch", Party("switch", switch.management.zone))

    def address(self, number: int) -> str:
        return self.read.addresses.text(number)

    def who(self, number: int) -> Who:
        text = self.address(number)
        if text in self._known:
            return self._known[text]
        if number >> 28 == 0xE or text == "255.255.255.255" or text.startswith("ff"):
            return Who(text, "group")
        mac = mac_text(self.read.talk.senders.get(number, 0) or -1)
        maker = self._makers.get(mac[:8], "")
        beside = ", ".join(part for part in (mac, maker) if part)
        return Who(text, "unknown", self._party(text), beside)

    def _party(self, text: str) -> Party | None:
        if self.plan is None or ":" in text:
            return None
        zone = next((z.name for z in self.plan.zones if IPv4Address(text) in z.subnet), None)
        return Party("device", zone) if zone else None

    def device(self, mac: str) -> str:
        """A MAC address with its maker, as far as the plan has cameras of that."""
        maker = self._makers.get(mac[:8], "")
        return f"{mac} ({maker})" if maker else mac

    def forbidden(self, one: int, other: int) -> str:
        """Why neither may begin to talk to the other; empty where one may, or the plan does not say."""
        parties = self.who(one).party, self.who(other).party
        if self.plan is None or None in parties or parties[0].zone == parties[1].zone:  # type: ignore[union-attr]
            return ""
        if self._reach is None:
            self._reach = plan_reach(self.plan)
        cells = [self._reach.cell(a, b) for a, b in (parties, parties[::-1])]  # type: ignore[arg-type]
        if None in cells or any(cell is not None and cell.allowed for cell in cells):
            return ""
        return cells[0].why if cells[0] is not None else ""


def sizes_by_host(sizes: dict[str, tuple[int, int]], hosts: dict[str, str]) -> dict[str, str]:
    """main or sub for each address of a device: the largest is the main one; unknown where there is nothing to compare with."""
    found = dict.fromkeys(hosts, "unknown")
    for host, count in Counter(hosts.values()).items():
        own = {url: sizes[url] for url in sizes if hosts[url] == host}
        if count < 2 or len(set(own.values())) < 2:
            continue
        largest = max(w * h for w, h in own.values())
        for url, (w, h) in own.items():
            found[url] = "main" if w * h == largest else "sub"
    return found
