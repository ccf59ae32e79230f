"""What a capture says: streams, stream addresses, who talked to whom, and what is wrong with that."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterator
from dataclasses import dataclass, replace
from datetime import UTC, datetime
from urllib.parse import urlsplit

from zentrale import quantities
from zentrale.findings import Finding, finding
from zentrale.jobs.wire.naming import Names, sizes_by_host
from zentrale.jobs.wire.reading import WireRead
from zentrale.protocols.capture.conversations import Asked, Connection
from zentrale.protocols.capture.layers import mac_text
from zentrale.protocols.capture.rtp_streams import RtpStream
from zentrale.protocols.h264 import parse_sps
from zentrale.protocols.sdp import Media
from zentrale.protocols.streams.meter import StreamMeasurement
from zentrale.site.model import Plan, Policy

_QUERY_S = 125.0  # RFC 3376 clause 8.2: a querier asks again within this
_LAST_S = 4_102_444_800.0  # the year 2100: a capture that tells more has no time at all
_CLEARLY = 2.0  # so many times the bit rate is another stream
_MOST_SAID = 4  # kinds of requests
_ARP_FLOOD = 200  # requests a second: a scan of a /24 is more, a quiet network of 500 devices is less
_WEAK = {
    "address": "WIR-5", "basic": "WIR-6", "token": "WIR-7", "no qop": "WIR-8", "one nonce": "WIR-9",
}  # fmt: skip
_SAID = {
    "address": "user and password in a stream address", "basic": "HTTP Basic without TLS",
    "token": "a UsernameToken with its password as text", "no qop": "digest answers without qop",
    "one nonce": "one nonce on three connections",
}  # fmt: skip


@dataclass(frozen=True)
class StreamRow:
    source: str
    destination: str
    stream: RtpStream
    measured: StreamMeasurement
    kind: str = "unknown"

    @property
    def size(self) -> tuple[int, int] | None:
        m = self.measured
        return (m.width_px, m.height_px) if m.width_px and m.height_px else None

    @property
    def is_video(self) -> bool:
        return self.stream.media is None or self.stream.media.kind == "video"

    def document(self) -> dict[str, object]:
        m = self.measured
        return {
            "source": self.source, "destination": self.destination, "ssrc": f"0x{self.stream.ssrc:08x}",
            "codec": m.codec or None, "size": list(self.size) if self.size else None, "received": m.packets_received,
            "lost": m.packets_lost, "reordered": m.packets_reordered, "doubled": m.packets_doubled,
            "jitter_ms": None if m.jitter_ms is None or not self.stream.told.media else round(m.jitter_ms, 3),
            "frames": m.frames, "key_interval_s": None if m.keyframe_interval_s is None else round(m.keyframe_interval_s, 3),
            "fps": None if m.fps is None else round(m.fps, 2),
            "bitrate_bps": None if m.bitrate_bps is None else round(m.bitrate_bps),
            "longest_gap_s": round(m.longest_gap_s, 3), "address": self.stream.told.url or None, "stream": self.kind,
            "interleaved": self.stream.interleaved, "first_packet": self.stream.number,
        }  # fmt: skip


@dataclass(frozen=True)
class AddressRow:
    """A stream address that was asked for. `works`: None where it was not answered in the capture."""

    asked: Asked
    device: str
    by: str
    stream: str
    size: tuple[int, int] | None
    why: str

    @property
    def works(self) -> bool | None:
        return None if not self.asked.answer else self.asked.answer == 200

    def document(self) -> dict[str, object]:
        return {
            "url": self.asked.url, "device": self.device, "asked_by": self.by, "answer": self.asked.answer or None,
            "plays": self.asked.plays, "transports": list(self.asked.transports), "stream": self.stream,
            "size": list(self.size) if self.size else None, "why": self.why, "first_packet": self.asked.number,
        }  # fmt: skip


@dataclass(frozen=True)
class TalkRow:
    source: str
    destination: str
    packets: int
    size_bytes: int
    what: str
    first: int

    def document(self) -> dict[str, object]:
        return {
            "from": self.source, "to": self.destination, "packets": self.packets, "bytes": self.size_bytes,
            "what": self.what, "first_packet": self.first,
        }  # fmt: skip


@dataclass(frozen=True)
class WireTold:
    read: WireRead
    streams: tuple[StreamRow, ...]
    addresses: tuple[AddressRow, ...]
    talk: tuple[TalkRow, ...]
    findings: tuple[Finding, ...]

    def document(self) -> dict[str, object]:
        return {
            "file": self.read.file, "packets": self.read.packets, "seconds": round(self.read.seconds, 3),
            "truncated": bool(self.read.ended), "ended": self.read.ended or None, "snapped": self.read.snapped,
            "left_out": self.read.left_out,
            "streams": [s.document() for s in self.streams], "addresses": [a.document() for a in self.addresses],
            "talk": [t.document() for t in self.talk],
        }  # fmt: skip


def tell(read: WireRead, plan: Plan | None) -> WireTold:
    names = Names(read, plan)
    streams = tuple(_streams(read, names, plan))
    policy = plan.policy if plan is not None else Policy()
    findings = tuple(_findings(read, names, streams, policy))
    return WireTold(read, streams, tuple(_addresses(read, names, streams, plan)), tuple(_talk(read, names)), findings)


def _streams(read: WireRead, names: Names, plan: Plan | None) -> Iterator[StreamRow]:
    rows = [
        StreamRow(f"{source.name}:{s.way.source_port}", f"{names.who(s.way.target).name}:{s.way.target_port}", s, m)
        for s, m in read.streams
        if (source := names.who(s.way.source))
    ]
    for row in rows:
        beside = [r for r in rows if r.stream.way.source == row.stream.way.source and r.is_video]
        kind = _beside(row, beside) if row.is_video else ""
        device = names.who(row.stream.way.source).name
        yield replace(row, kind=kind or _by_plan(plan, device, row.size)[0])


def _beside(row: StreamRow, beside: list[StreamRow]) -> str:
    """Main or sub among the streams of its device: by their sizes, or by their bit rates where not each tells its size."""
    sized = all(r.size for r in beside)

    def weight(r: StreamRow) -> float:
        return float(r.size[0] * r.size[1]) if sized and r.size else r.measured.bitrate_bps or 0.0

    most, least, own = max(map(weight, beside)), min(map(weight, beside)), weight(row)
    apart = 1.0 if sized else _CLEARLY
    if not own or least * apart >= most:
        return ""
    return "sub" if own * apart < most else "main"


def _addresses(read: WireRead, names: Names, streams: tuple[StreamRow, ...], plan: Plan | None) -> Iterator[AddressRow]:
    asked: dict[str, Asked] = {}
    for connection in read.connections:
        for url, one in connection.asked.items():
            known = asked.get(url)
            if known is None or (one.answer == 200 and known.answer != 200):
                asked[url] = one
    asked = dict(sorted(asked.items(), key=lambda item: item[1].number))
    sizes = {row.stream.told.url: row.size for row in streams if row.stream.told.url and row.size}
    for url, one in asked.items():
        size = sizes.get(url) or next((s for m in one.media if (s := _size_of(m)) is not None), None)
        if size is not None:
            sizes[url] = size
    hosts = {url: urlsplit(url).hostname or "" for url in asked}
    kinds = sizes_by_host({u: s for u, s in sizes.items() if u in asked and s is not None}, hosts)
    for url, one in asked.items():
        device = names.who(one.way.target).name
        kind, why = kinds[url], "the largest of its streams" if kinds[url] == "main" else "smaller than its main stream"
        size = sizes.get(url)
        if kind == "unknown":
            kind, why = _by_plan(plan, device, size)
        yield AddressRow(one, device, names.who(one.way.source).name, kind, size, why)


def _by_plan(plan: Plan | None, device: str, size: tuple[int, int] | None) -> tuple[str, str]:
    camera = next((c for c in plan.cameras if c.name == device), None) if plan is not None else None
    if camera is None or plan is None or size is None:
        return (
            "unknown",
            "nothing tells its size" if size is None else "its only stream here, and the plan does not know it",
        )
    fits = [name for name, stream in plan.streams(camera).items() if tuple(stream.resolution) == size]
    return (fits[0], "of the planned size") if len(fits) == 1 else ("unknown", "of no planned size")


def _size_of(media: Media) -> tuple[int, int] | None:
    for unit in media.parameter_sets() if media.codec == "H264" else ():
        if unit and unit[0] & 31 == 7:
            try:
                found = parse_sps(unit)
            except ValueError:
                continue
            return found.width_px, found.height_px
    return None


def _talk(read: WireRead, names: Names) -> Iterator[TalkRow]:
    """Pairs, the most talkative first; of connections whose kind is known, by what was asked in all of them."""
    told: dict[frozenset[int], dict[str, list[Connection]]] = {}
    for connection in read.connections:
        if connection.kind in ("rtsp", "http", "tls"):
            kind = "RTSP within HTTP" if connection.tunnelled else connection.kind.upper()
            pair = told.setdefault(frozenset((connection.way.source, connection.way.target)), {})
            pair.setdefault(kind, []).append(connection)
    for (source, target), exchanged in sorted(read.talk.pairs.items(), key=lambda item: -item[1].size):
        known = told.get(frozenset((source, target)), {})
        kinds = [_what(kind, some) for kind, some in known.items()] or [w for w, _ in exchanged.by.most_common(3)]
        yield TalkRow(
            names.who(source).name,
            names.who(target).name,
            exchanged.packets,
            exchanged.size,
            "; ".join(kinds),
            exchanged.first,
        )


def _what(kind: str, some: list[Connection]) -> str:
    requests = sum((c.requests for c in some), Counter[str]())
    refused = sum(n for c in some for status, n in c.outcomes.items() if status.startswith("4"))
    said = ", ".join(f"{name} {n}x" if n > 1 else name for name, n in requests.most_common(_MOST_SAID))
    more = f", {len(requests) - _MOST_SAID} more" if len(requests) > _MOST_SAID else ""
    return f"{kind} ({said}{more}{f', {refused} answers 4xx' if refused else ''})" if requests else kind


def _when(read: WireRead, number: int, time_s: float | None = None) -> str:
    believed = time_s is not None and 0 < time_s < _LAST_S
    at = f" at {quantities.moment(datetime.fromtimestamp(time_s, UTC))}" if believed and time_s else ""
    return f"first in packet {number}{at}"


def _findings(read: WireRead, names: Names, streams: tuple[StreamRow, ...], policy: Policy) -> Iterator[Finding]:
    source = f"capture {read.file}"
    if read.ended:
        yield finding("WIR-12", source, read.ended, "a whole file", "pcap, pcapng")
    talk = read.talk
    servers = list(talk.servers.values())
    if len(servers) > 1:
        said = "; ".join(
            f"{names.address(s.address)} ({names.device(mac_text(s.mac))}), {_when(read, s.number, s.time_s)}"
            for s in servers
        )
        yield finding("WIR-1", source, said, "one DHCP server", "RFC 2131")
    for address, macs in talk.conflicts.items():
        said = ", ".join(
            f"{names.device(mac_text(m))} in packet {n}" for m, n in sorted(macs.items(), key=lambda i: i[1])
        )
        yield finding("WIR-2", f"address {names.address(address)}", said, "one device", "RFC 826, RFC 5227")
    groups = [g for g in talk.joins if g >> 8 != 0xE00000]  # those of the link itself are never asked for
    if groups and not talk.queriers:
        said = f"{quantities.count(len(groups), 'group')} joined, no query in {quantities.seconds(read.seconds)}"
        enough = "" if read.seconds > _QUERY_S else f"; a querier asks every {_QUERY_S:g} s at the latest"
        yield finding("WIR-3", source, said + enough, "a querier", "RFC 3376 clause 8.2")
    most, who = talk.busiest_arp
    if most >= _ARP_FLOOD:
        said = f"{most} ARP packets in a second; {names.device(who)} asked most"
        yield finding("WIR-13", source, said, f"fewer than {_ARP_FLOOD} in a second", "good practice")
    for weak in read.weak:
        one, other = names.who(weak.way.source).whole, names.who(weak.way.target).whole
        said = f"{_SAID[weak.kind]}: {one} to {other}, {_when(read, weak.number, weak.time_s)}"
        yield finding(
            _WEAK[weak.kind], f"conversation of {one} and {other}", said, "nothing to be read or used again", source
        )
    yield from _holes(read, names)
    yield from _lossy(streams, policy)
    yield from _forbidden(read, names)


def _holes(read: WireRead, names: Names) -> Iterator[Finding]:
    for connection in read.connections:
        holes = sum(side.holes for side in connection.sides)
        if holes and connection.kind in ("rtsp", "http"):
            one, other = names.who(connection.way.source).name, names.who(connection.way.target).name
            missing = quantities.size(sum(side.missing for side in connection.sides))
            said = f"{quantities.count(holes, 'hole')}, {missing} not caught"
            yield finding("WIR-4", f"conversation of {one} and {other}", said, "all that was said", "RFC 9293")


def _lossy(streams: tuple[StreamRow, ...], policy: Policy) -> Iterator[Finding]:
    for row in streams:
        m = row.measured
        sent = m.packets_lost + m.packets_received
        if m.packets_lost and 100 * m.packets_lost / sent > policy.loss_percent:
            said = f"{m.packets_lost} of {sent} packets missing ({100 * m.packets_lost / sent:.2g} %)"
            subject = f"stream of {row.source} to {row.destination}"
            yield finding("WIR-11", subject, said, f"at most {policy.loss_percent:g} %", "RFC 3550 appendix A.3")


def _forbidden(read: WireRead, names: Names) -> Iterator[Finding]:
    """Where both sent something: what nobody answered was kept out."""
    pairs = read.talk.pairs
    for (source, target), pair in pairs.items():
        back = pairs.get((target, source))
        if back is None or source > target:
            continue
        why = names.forbidden(source, target)
        if why:
            one, other = names.who(source).whole, names.who(target).whole
            first = min(pair, back, key=lambda p: p.first)
            said = f"{pair.packets + back.packets} packets to and fro, {_when(read, first.first, first.first_s)}"
            yield finding("WIR-10", f"{one} and {other}", said, f"none: {why}", "site.toml [[rules]], [[zones]]")
