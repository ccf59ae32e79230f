"""The switches' own pages, played by hosts of their own: what a switch's file has given its page goes there as it is."""

from __future__ import annotations

import re
from dataclasses import replace

from zentrale.errors import LabError
from zentrale.field.lab.namespaces import Namespace, whole_checksums
from zentrale.field.lab.stations import Station, set_up_one
from zentrale.output.network import names


def station_of(switch: str) -> str:
    """What its page is called as a station; names of the plan have no dots."""
    return f"page.{switch}"


def take_out(switch: Namespace, space: Namespace, page: Station, neighbours: dict[str, str]) -> None:
    """From the switch's system into a place of its own: else the system would answer for whatever it has, by any port. A file
    that makes no page leaves an unplugged cable. Raises LabError.
    """
    (leg,) = page.legs
    addresses: list[tuple[str, str]] = []
    ways: list[str] = []
    try:
        told = switch.call("ip", "-o", "-4", "address", "show", "dev", names.PAGE)
    except LabError:
        space.call("ip", "link", "add", leg.interface, "address", leg.mac, "type", "veth", "peer", "name", "unplugged")
    else:
        addresses = re.findall(r"inet ([\d.]+)/(\d+)", told)
        ways = re.findall(r"default via (\S+)", switch.call("ip", "route", "show", "dev", names.PAGE))
        switch.call("ip", "link", "set", names.PAGE, "netns", space.name)
        space.call("ip", "link", "set", names.PAGE, "down")
        space.call("ip", "link", "set", names.PAGE, "name", leg.interface, "address", leg.mac)
    space.call("ip", "link", "set", leg.interface, "up")
    with space.inside():
        whole_checksums(leg.interface)
    legs = tuple(replace(leg, address=address, prefix=int(bits)) for address, bits in addresses)
    set_up_one(replace(page, legs=legs, gateways=tuple(ways)), space, neighbours)
