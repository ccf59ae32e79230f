"""Who talked to whom beside the streams: ARP, DHCP, multicast joins and who asks for them, and what each pair exchanged.

ARP: RFC 826; DHCP: RFC 2131 and 2132; IGMP: RFC 2236 and 3376. Only what is plain in single packets; all of it bounded.
"""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterator
from dataclasses import dataclass, field

import numpy as np

from zentrale.protocols.capture.grouping import by_kin, grouped
from zentrale.protocols.capture.layers import ARP, ICMP, ICMP6, IGMP, TCP, UDP, Layers, mac_text, u16, u32, u48
from zentrale.protocols.capture.packets import Batch, Ints

MOST = 20_000  # pairs, addresses, groups
_DHCP_SERVER, _DHCP_CLIENT, _COOKIE = 67, 68, b"\x63\x82\x53\x63"
_TYPE, _SERVER_ID = 53, 54
_OFFER, _ACK = 2, 5
_QUERY, _REPORTS, _REPORT_3, _LEAVE = 0x11, (0x12, 0x16), 0x22, 0x17
# By their registered ports (IANA), where no connection tells what it is.
NAMES = {
    53: "DNS", 67: "DHCP", 68: "DHCP", 80: "HTTP", 123: "NTP", 161: "SNMP", 443: "HTTPS", 554: "RTSP", 1900: "SSDP",
    3702: "WS-Discovery", 5353: "mDNS", 8554: "RTSP",
}  # fmt: skip


@dataclass
class Pair:
    """What one sent to another. `first` is its first packet; `by` counts packets by what they were."""

    first: int
    first_s: float
    packets: int = 0
    size: int = 0
    by: Counter[str] = field(default_factory=Counter)


@dataclass
class Server:
    """A DHCP server: what it calls itself, and the first of its answers."""

    address: int
    mac: int
    number: int
    time_s: float
    offers: int = 0


@dataclass
class Talk:
    pairs: dict[tuple[int, int], Pair] = field(default_factory=dict)
    macs: dict[int, dict[int, int]] = field(
        default_factory=dict
    )  # by address: who told by ARP that it has it, first packet
    arp_by_second: Counter[int] = field(default_factory=Counter)
    arp_by: Counter[int] = field(default_factory=Counter)  # requests, by who asked
    servers: dict[tuple[int, int], Server] = field(default_factory=dict)
    joins: dict[int, set[int]] = field(default_factory=dict)  # by group: who is in it
    queriers: dict[int, int] = field(default_factory=dict)  # who asks, and its first packet
    senders: dict[int, int] = field(default_factory=dict)  # by address: the MAC address that its packets come from
    not_read: Counter[str] = field(default_factory=Counter)

    def take(self, batch: Batch, layers: Layers) -> None:
        self._pairs(batch, layers)
        data = batch.data
        for row in np.flatnonzero(layers.ethertype == ARP).tolist():
            self._arp(batch, layers, row)
        dhcp = (layers.proto == UDP) & (layers.source_port == _DHCP_SERVER) & (layers.there > 240)
        for row in np.flatnonzero(dhcp).tolist():
            self._dhcp(batch, layers, row)
        igmp = np.flatnonzero((layers.proto == IGMP) & (layers.transport >= 0))
        for row in igmp.tolist():
            start = int(layers.transport[row])
            self._igmp(batch, layers, row, data[start : batch.at[row] + batch.caught[row]].tobytes())

    def _pairs(self, batch: Batch, layers: Layers) -> None:
        with_ip, is_kin = layers.ip >= 0, layers.kin >= 0
        found: list[tuple[int, ...]] = []
        for some in (np.flatnonzero(with_ip & is_kin), np.flatnonzero(with_ip & ~is_kin)):
            if len(some):
                found += self._sums(batch, layers, some)
        for row, own, other, proto, number, sender, count, size in sorted(found):
            pair = self.pairs.get((own, other))
            if pair is None:
                if len(self.pairs) >= MOST:
                    self.not_read["pairs"] += count
                    continue
                pair = self.pairs[own, other] = Pair(batch.number + row, float(batch.time_s[row]))
            pair.packets += count
            pair.size += size
            pair.by[_named(proto, number)] += count
            if sender >= 0 and len(self.senders) < MOST:
                self.senders.setdefault(own, sender)

    def _sums(self, batch: Batch, layers: Layers, some: Ints) -> Iterator[tuple[int, ...]]:
        """Of each kind among these packets: the first one, what it says of who sends what to whom, how many they are, and their
        bytes.
        """
        alike = by_kin(layers.kin[some])
        if alike is None:
            ports = np.minimum(layers.source_port[some], layers.target_port[some])
            alike = grouped([layers.source[some], layers.target[some], layers.proto[some], ports])
        order, begins = alike
        sizes = np.add.reduceat(batch.length[some[order]], begins)
        counts = np.diff(np.append(begins, len(order)))
        first = some[order[begins]]
        port = np.maximum(0, np.minimum(layers.source_port[first], layers.target_port[first]))
        columns = (first, layers.source[first], layers.target[first], layers.proto[first], port, layers.sender[first])
        yield from zip(*(column.tolist() for column in (*columns, counts, sizes)), strict=True)

    def _arp(self, batch: Batch, layers: Layers, row: int) -> None:
        place = np.array([self._content(batch, layers, row)])
        start = int(place[0])
        if start + 28 > batch.at[row] + batch.caught[row]:
            return
        data = batch.data
        kind = int(u16(data, place + 6)[0])
        mac, address = int(u48(data, place + 8)[0]), int(u32(data, place + 14)[0])
        wanted = int(u32(data, place + 24)[0])
        self.arp_by_second[int(batch.time_s[row])] += 1
        if kind == 1:
            self.arp_by[mac] += 1
        if address and (kind == 2 or wanted == address) and len(self.macs) < MOST:  # an answer, or it tells of itself
            self.macs.setdefault(address, {}).setdefault(mac, batch.number + row)

    def _content(self, batch: Batch, layers: Layers, row: int) -> int:
        """Where what the link carries begins: a tag more or less makes it begin elsewhere."""
        start = int(batch.at[row])
        end = start + int(batch.caught[row])
        found = batch.data[start:end].tobytes().find(b"\x00\x01\x08\x00\x06\x04")
        return start + found if found >= 0 else end

    def _dhcp(self, batch: Batch, layers: Layers, row: int) -> None:
        start = int(layers.payload[row])
        data = batch.data[start : start + int(layers.there[row])].tobytes()
        if data[236:240] != _COOKIE:
            return
        options, at = dict[int, bytes](), 240
        while at + 2 <= len(data) and data[at] != 255:
            if data[at] == 0:
                at += 1
                continue
            options[data[at]] = data[at + 2 : at + 2 + data[at + 1]]
            at += 2 + data[at + 1]
        if options.get(_TYPE, b"")[:1] not in (bytes([_OFFER]), bytes([_ACK])):
            return
        told = options.get(_SERVER_ID, b"")
        address = int.from_bytes(told, "big") if len(told) == 4 else int(layers.source[row])
        key = address, int(layers.sender[row])
        if key not in self.servers and len(self.servers) < 64:
            self.servers[key] = Server(address, key[1], batch.number + row, float(batch.time_s[row]))
        if key in self.servers:
            self.servers[key].offers += 1

    def _igmp(self, batch: Batch, layers: Layers, row: int, data: bytes) -> None:
        if len(data) < 8 or len(self.joins) > MOST:
            return
        who = int(layers.source[row])
        if data[0] == _QUERY:
            self.queriers.setdefault(who, batch.number + row)
        elif data[0] in _REPORTS:
            self.joins.setdefault(int.from_bytes(data[4:8], "big"), set()).add(who)
        elif data[0] == _REPORT_3:
            at = 8
            for _ in range(min(64, int.from_bytes(data[6:8], "big"))):
                if at + 8 > len(data):
                    return
                kind, more, sources = data[at], data[at + 1], int.from_bytes(data[at + 2 : at + 4], "big")
                group = int.from_bytes(data[at + 4 : at + 8], "big")
                if kind in (2, 4) or (kind in (1, 3, 5) and sources):  # RFC 3376 clause 4.2.12: it is, or goes, in
                    self.joins.setdefault(group, set()).add(who)
                at += 8 + 4 * sources + 4 * more

    @property
    def conflicts(self) -> dict[int, dict[int, int]]:
        """Addresses that several say they have."""
        return {address: macs for address, macs in self.macs.items() if len(macs) > 1}

    @property
    def busiest_arp(self) -> tuple[int, str]:
        """Most ARP packets in a second, and who asked most of all."""
        most = max(self.arp_by_second.values(), default=0)
        who = self.arp_by.most_common(1)
        return most, mac_text(who[0][0]) if who else ""


def _named(proto: int, port: int) -> str:
    if proto in (ICMP, ICMP6):
        return "ping and errors"
    if proto == IGMP:
        return "IGMP"
    return NAMES.get(port, "UDP" if proto == UDP else "TCP" if proto == TCP else f"IP protocol {proto}")
