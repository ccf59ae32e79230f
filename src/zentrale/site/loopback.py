"""A copy of a site whose addresses are those of loopback, to practise on where no network of its own can be had."""

from __future__ import annotations

import re
import shutil
from collections.abc import Iterable
from ipaddress import IPv4Address, IPv4Network

from zentrale.errors import InputError
from zentrale.site.folder import OUTLINE_FILE, RUNS_FILE, SiteFolder, write_atomically
from zentrale.site.headers import HEADERS_FILE
from zentrale.site.model import Plan, Zone
from zentrale.site.reading import read_plan

_LOOPBACK = IPv4Network("127.0.0.0/8")
_FIRST = int(IPv4Address("127.0.101.0"))
_LARGEST = 16  # prefix of the largest subnet that is taken
_ADDRESS = re.compile(r"(?<![\w.])(\d{1,3}(?:\.\d{1,3}){3})(/\d{1,2})?(?![\w.])")


def loopback_copy(folder: SiteFolder, plan: Plan, into: SiteFolder) -> Plan:
    """The plan files with every address of a zone's subnet on loopback instead, at the same place in its subnet; without vault
    and logbook. Raises InputError where a subnet is too large, or something is at `into` already.
    """
    if into.path.exists() and (not into.path.is_dir() or any(into.path.iterdir())):
        raise InputError(f"{into.path}: is there already", "give a folder that is empty or not there yet")
    places = _places(plan.zones)
    for path in (folder.site_file, folder.cameras_file, folder.types_file):
        text = path.read_bytes()
        moved = _ADDRESS.sub(lambda m: _moved(m, places), text.decode("latin-1"))  # byte by byte: whatever its encoding
        write_atomically(into.path / path.name, moved.encode("latin-1"))
    for name in (OUTLINE_FILE, RUNS_FILE, HEADERS_FILE):
        if (folder.path / name).exists():
            shutil.copy(folder.path / name, into.path / name)
    return read_plan(into)


def _places(zones: Iterable[Zone]) -> dict[IPv4Network, IPv4Network]:
    """Where each subnet is to be, the narrowest first; zones of one private VLAN share theirs."""
    found: dict[IPv4Network, IPv4Network] = {}
    at = _FIRST
    for zone in zones:
        subnet = zone.subnet
        if subnet in found or subnet.subnet_of(_LOOPBACK):
            continue
        if subnet.prefixlen < _LARGEST:
            raise InputError(
                f"zone {zone.name}: {subnet} is too large for loopback",
                f"a subnet of /{_LARGEST} or smaller can be played",
            )
        size = max(256, subnet.num_addresses)
        at = -(-at // size) * size
        found[subnet] = IPv4Network((at, subnet.prefixlen))
        at += size
    return dict(sorted(found.items(), key=lambda item: -item[0].prefixlen))


def _moved(match: re.Match[str], places: dict[IPv4Network, IPv4Network]) -> str:
    try:
        address = IPv4Address(match[1])
    except ValueError:
        return match[0]
    for old, new in places.items():
        if address in old:
            return f"{new.network_address + (int(address) - int(old.network_address))}{match[2] or ''}"
    return match[0]
