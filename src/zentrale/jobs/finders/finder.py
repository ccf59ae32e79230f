"""What a way of discovery is: where it looks, and what it sees there. Who that is, is asked afterwards."""

from __future__ import annotations

from abc import ABC, abstractmethod
from collections.abc import Collection, Mapping, Sequence
from dataclasses import dataclass
from ipaddress import IPv4Network, ip_address
from typing import Any

from zentrale.field.adapters import Choice
from zentrale.site.model import Plan


@dataclass(frozen=True)
class Search:
    """What is asked for: on which adapters; `networks` and `ports` to sweep; whether, and how long, to listen for answers to
    what is asked by multicast.
    """

    choice: Choice
    networks: tuple[IPv4Network, ...]
    ports: Sequence[int]
    probe: bool
    wait_s: float
    plan: Plan | None


@dataclass(frozen=True)
class Sighting:
    """One way's word of a device: `told` are the service addresses it gave, `ports` those that are open, `url` where it is to
    be asked whatever it told, `translated` as one of several devices that share this address. `macs` answer ARP for the
    address; `announced` is what it calls itself, in words; `also_at` other addresses of the same device. Not `certain`: it
    only says of itself that it is there, and is listed only where it is met or answers. It `refuses`: a host
    is there, but says no at all ports. `by_arp`: it was asked for by ARP, and answered where there are `macs`.
    `maker` and `serial` as it announces them, and `rtsp_ports` those at which it says that it serves RTSP.
    """

    host: str
    method: str
    endpoint: str = ""
    told: tuple[str, ...] = ()
    model: str = ""
    ports: tuple[int, ...] = ()
    url: str = ""
    translated: bool = False
    macs: tuple[str, ...] = ()
    announced: str = ""
    label: str = ""
    also_at: tuple[str, ...] = ()
    certain: bool = True
    refuses: bool = False
    by_arp: bool = False
    maker: str = ""
    serial: str = ""
    rtsp_ports: tuple[int, ...] = ()


@dataclass(frozen=True)
class Looked:
    """Where a discovery looked: what it swept, whom it asked directly, and the networks its probe reached. This is a run's
    scope in the logbook.
    """

    networks: tuple[IPv4Network, ...] = ()
    asked: frozenset[str] = frozenset()
    probed: tuple[IPv4Network, ...] = ()
    interrupted: bool = False

    def joined(self, other: Looked) -> Looked:
        return Looked((*self.networks, *other.networks), self.asked | other.asked, (*self.probed, *other.probed))

    def covers(self, addresses: Collection[str], *, by_probe: bool = False) -> bool:
        """Whether a device at one of these addresses would have been seen. `by_probe`: it is one that answers probes,
        which not all do.
        """
        if self.interrupted:
            return False
        inside = [*self.networks, *(self.probed if by_probe else ())]
        return any(a in self.asked or any(ip_address(a) in n for n in inside) for a in addresses)

    @property
    def ways(self) -> str:
        ways = ["probe"] if self.probed else []
        if self.networks:
            ways.append(f"sweep of {', '.join(map(str, self.networks))}")
        return " and ".join(ways) or "its planned address"

    def document(self) -> dict[str, object]:
        return {
            "networks": [str(n) for n in self.networks],
            "asked": sorted(self.asked),
            "probed": [str(n) for n in self.probed],
        }

    @classmethod
    def from_document(cls, content: Mapping[str, Any], *, interrupted: bool) -> Looked:
        networks = tuple(IPv4Network(n) for n in content.get("networks", ()))
        probed = content.get("probed") or []
        probed = [probed] if isinstance(probed, str) else probed  # an older version's run
        return cls(networks, frozenset(content.get("asked", ())), tuple(map(IPv4Network, probed)), interrupted)


class Finder(ABC):
    name: str

    @abstractmethod
    def looks(self, search: Search) -> Looked:
        """Where it looks in this search: a device there that it does not see is not there, or does not answer it."""

    @abstractmethod
    async def find(self, search: Search) -> list[Sighting]:
        """What it sees, before anybody is asked who it is. Raises UnreachableError where this machine cannot send at all."""
