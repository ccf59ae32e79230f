"""What the switches told last, as the logbook keeps it: for discovery, binding, planning and the hand-over, without asking
again.
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from datetime import datetime
from typing import Any

from zentrale.jobs.known.planned import whole_devices
from zentrale.logbook.evidence import Notes, latest, observations
from zentrale.logbook.store import Logbook
from zentrale.site.model import Camera, Plan
from zentrale.subjects import Kind, Ref

KIND = "switch"  # of observations: all that a check saw of one
HEARD = "heard at ports"  # the addresses alone, by whichever command asked last


def keep_heard(notes: Notes, switch: str, method: str, at: Mapping[int, tuple[str, ...]]) -> None:
    """`at`: addresses by port, without those of ports that lead on."""
    content = {"ports": {str(port): list(macs) for port, macs in at.items()}}
    notes.observe(HEARD, Ref(Kind.SWITCH, switch), method, content)


def alone_at_their_ports(plan: Plan, logbook: Logbook) -> dict[str, str]:
    """The one MAC address that was heard at the port of each planned camera, by its name; none where several were, or none."""
    heard = {o.ref.name: o.content["ports"] for o in latest(logbook, HEARD).values()}
    found = {}
    for name, row in whole_devices(plan).items():
        if isinstance(row, Camera) and row.switch and row.port and not row.behind and not row.wireless:
            macs = heard.get(row.switch, {}).get(str(row.port), ())
            if len(macs) == 1:
                found[name] = str(macs[0])
    return found


@dataclass(frozen=True)
class PortSeen:
    """One port as a check saw it, in words; `watts` drawn, None: no sensor tells."""

    device: str
    state: str
    watts: float | None
    at: datetime


def ports_seen(logbook: Logbook) -> dict[tuple[str, int], PortSeen]:
    """By switch and port, of the newest check of each switch."""
    found = {}
    for ref, seen in latest(logbook, KIND).items():
        for port in seen.content.get("ports", ()):
            poe = port.get("poe") or {}
            macs = port.get("macs")
            device = port.get("device") or (", ".join(macs[:2]) if macs else "")
            if len(macs or ()) > 2 and not port.get("device"):
                device = f"{len(macs)} devices"
            rate = f"{port['rate_mbps']} Mbit/s" if port.get("rate_mbps") else "up"
            half = " half duplex" if port.get("duplex") == "half" else ""
            state = f"{rate}{half}" if port["up"] else "no link"
            found[ref.name, int(port["port"])] = PortSeen(device, state, poe.get("power_w"), seen.at)
    return found


def watts_seen(logbook: Logbook) -> dict[str, dict[str, float]]:
    """The most that each switch gave its ports by day and by night [W], of all checks."""
    found: dict[str, dict[str, float]] = {}
    for seen in observations(logbook, KIND):
        power: Mapping[str, Any] | None = seen.content.get("power")
        if power and seen.content.get("light") in ("day", "night"):
            by_light = found.setdefault(seen.ref.name, {})
            light = str(seen.content["light"])
            by_light[light] = max(by_light.get(light, 0.0), float(power["used_w"]))
    return found
