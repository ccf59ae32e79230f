"""A device as it was found, and bringing together what is one device."""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass, fields, replace
from ipaddress import ip_address
from typing import Any
from urllib.parse import urlsplit

from zentrale.jobs.known.device_states import State
from zentrale.site.identity import Identity

USUAL_RTSP_PORTS = (554, 8554)
# From what tells most of a device to what tells least.
_WEIGHT = {State.FAILING.value: 3, State.RTSP_ONLY.value: 2, State.WEB_ONLY.value: 1, State.NO_ANSWER.value: 0}


@dataclass(frozen=True)
class FoundDevice:
    """One device as it answered. `url` is its ONVIF address, empty where it has none.

    mac:         the one it told first; `macs` are those of all its interfaces
    endpoint:    of WS-Discovery; `shared_endpoint` where other hosts answer with the same one
    also_at:     other addresses at which the same device answered
    named_hosts: hosts that it named in addresses of its own, each with what it was to be
    link_macs:   those that answer ARP for its address; more than one where devices share it
    announced:   what it calls itself by SSDP or DNS-SD, in words
    label:       the name that it tells in its scopes
    announced_serial: its serial number as it announces it by SSDP; rtsp_ports those at which it says that it serves RTSP
    codecs, max_resolution, max_fps, max_bitrate_kbps: what its main encoder can be set to, as far as it told it; width and height
                 [px], frames/s, kbit/s; empty or 0: not told
    records:     it has the receivers of a recorder
    other:       why it is not the device whose password the vault has for this place; empty where nothing says so
    again_at:    when a device that was not asked for lack of tries can be asked (ISO 8601)
    """

    address: str
    url: str
    method: str
    maker: str = ""
    model: str = ""
    firmware: str = ""
    serial: str = ""
    mac: str = ""
    endpoint: str = ""
    state: str = State.NO_ANSWER.value
    credentials_label: str = ""
    clock_offset_s: float | None = None
    open_ports: tuple[int, ...] = ()
    note: str = ""
    macs: tuple[str, ...] = ()
    shared_endpoint: bool = False
    also_at: tuple[str, ...] = ()
    named_hosts: tuple[str, ...] = ()
    again_at: str = ""
    link_macs: tuple[str, ...] = ()
    announced: str = ""
    label: str = ""
    report: str = ""
    other: str = ""
    announced_serial: str = ""
    rtsp_ports: tuple[int, ...] = ()
    codecs: tuple[str, ...] = ()
    max_resolution: tuple[int, ...] = ()
    max_fps: float = 0
    max_bitrate_kbps: int = 0
    records: bool = False

    @property
    def rtsp_port(self) -> int | None:
        """Where it serves RTSP, as far as is known: where it says so, else a usual port that is open."""
        usual = (p for p in self.open_ports if p in USUAL_RTSP_PORTS)
        return next(iter(self.rtsp_ports), None) or next(usual, None)

    @property
    def identity(self) -> Identity:
        link = self.link_macs if len(self.link_macs) == 1 else ()
        macs = self.macs or ((self.mac,) if self.mac else link)
        return Identity.of(macs, self.maker, self.model, self.serial, self.own_endpoint)

    @property
    def own_endpoint(self) -> str:
        """The endpoint, where it belongs to this host alone."""
        return "" if self.shared_endpoint else self.endpoint

    @property
    def port(self) -> int | None:
        """Of its ONVIF service; None where it has none."""
        if not self.url:
            return None
        parts = urlsplit(self.url)
        return parts.port or (443 if parts.scheme == "https" else 80)

    @property
    def addresses(self) -> tuple[str, ...]:
        return (self.address, *self.also_at)

    @property
    def speaks_onvif(self) -> bool:
        return self.state not in _WEIGHT

    @classmethod
    def from_document(cls, content: Mapping[str, Any]) -> FoundDevice:
        """From the logbook; fields of another version are passed over."""
        known = {f.name for f in fields(cls)}
        values: dict[str, Any] = {k: tuple(v) if isinstance(v, list) else v for k, v in content.items() if k in known}
        return cls(**values)


def one_row_each(devices: Sequence[FoundDevice]) -> list[FoundDevice]:
    """Each physical device once. Two behind one address stay two, one with two addresses becomes one."""
    by_address: dict[str, list[FoundDevice]] = {}
    for device in devices:
        by_address.setdefault(device.address, []).append(device)
    rows: list[FoundDevice] = []
    for here in by_address.values():
        for device in _at_one_address(here):
            at = next((i for i, row in enumerate(rows) if _one_device(row, device)), None)
            if at is None:
                rows.append(device)
            else:
                rows[at] = _joined(rows[at], device)
    return sorted(rows, key=lambda d: (":" in d.address, ip_address(d.address).packed, d.url))


def _at_one_address(devices: Sequence[FoundDevice]) -> Iterable[FoundDevice]:
    """Ports that turned out to be nothing are no devices of their own where another port is one."""
    good = [d for d in devices if d.speaks_onvif]
    announced = [d for d in devices if not d.speaks_onvif and d.method.startswith("probe")]
    if not good and not announced:
        best = max(devices, key=lambda d: (_WEIGHT[d.state], d.method != "planned"))
        notes = dict.fromkeys(d.note for d in devices if d.note)
        return [replace(best, note="; ".join(notes)[:300])]
    rows: list[FoundDevice] = []
    for device in (*good, *announced):
        at = next((i for i, row in enumerate(rows) if _cannot_be_two(row, device)), None)
        if at is None:
            rows.append(device)
        else:
            rows[at] = _joined(rows[at], device)
    return rows


def _cannot_be_two(a: FoundDevice, b: FoundDevice) -> bool:
    """Whether two answers from one address are one device's. Where nothing tells them apart they are."""
    same = a.identity.same_device(b.identity)
    if same is None:
        return not (a.endpoint and b.endpoint and a.endpoint != b.endpoint)
    return same


def _one_device(a: FoundDevice, b: FoundDevice) -> bool:
    """Whether answers from two addresses are one device's: by MAC address or serial number. An endpoint alone is not
    enough, since some makers ship the same one in all devices.
    """
    if a.address == b.address:
        return False  # decided already
    strong = [replace(i, endpoint="") for i in (a.identity, b.identity)]
    return strong[0].same_device(strong[1]) is True


def _joined(a: FoundDevice, b: FoundDevice) -> FoundDevice:
    """One row of two answers: the one that tells more leads."""
    first, second = (a, b) if (a.speaks_onvif, bool(a.mac)) >= (b.speaks_onvif, bool(b.mac)) else (b, a)
    methods = dict.fromkeys(m for d in (first, second) for m in d.method.split(" + "))
    others = dict.fromkeys(x for x in (*first.also_at, *second.addresses) if x != first.address)
    return replace(
        first,
        method=" + ".join(methods),
        endpoint=first.endpoint or second.endpoint,
        macs=tuple(dict.fromkeys((*first.macs, *second.macs))),
        also_at=tuple(others),
        named_hosts=tuple(dict.fromkeys((*first.named_hosts, *second.named_hosts))),
        open_ports=tuple(sorted({*first.open_ports, *second.open_ports})),
        rtsp_ports=tuple(dict.fromkeys((*first.rtsp_ports, *second.rtsp_ports))),
        announced_serial=first.announced_serial or second.announced_serial,
    )
