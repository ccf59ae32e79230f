"""What is lost of its streams, and what they show. Pure."""

from __future__ import annotations

from collections.abc import Sequence

from zentrale.jobs.diagnosing.diagnosis import Blame, Judged, breaks, holds, not_known
from zentrale.jobs.diagnosing.judging_streams import StreamsSeen
from zentrale.jobs.known.layer import Layer
from zentrale.protocols.streams.meter import StreamMeasurement
from zentrale.site.model import Camera, Policy

_CLEARLY, _ALIKE = 0.2, 0.6  # another camera's picture agrees so much better, and so well


def judge_loss(camera: Camera, seen: StreamsSeen, policy: Policy, why_not: str = "it does not play") -> Judged:
    main = seen.main
    if main is None or main.measured is None:
        return not_known(Layer.LOSS, why_not)
    ways = [main.measured, *(m.measured for m in (seen.tcp, seen.udp) if m is not None and m.measured is not None)]
    dropped = [m for m in ways if m.packets_dropped_here]
    ways = [m for m in ways if not m.packets_dropped_here]
    told = "; ".join(_lost(m) for m in ways)
    narrow = next((f for f in main.findings if f.code == "STR-34"), None)
    lossy = [m for m in ways if _percent(m) > policy.loss_percent]
    if not lossy and narrow is not None:
        causes = [
            ("a link on the way is too narrow or too full", narrow.measured),
            ("a port on the way runs at 10 Mbit/s or half duplex", "`zentrale network check` tells it"),
        ]
        return breaks(
            Layer.LOSS, "DGN-35", Blame.NETWORK, f"the way here is too narrow: {narrow.measured}", told, causes,
            "`zentrale network check`, then play it from the switch next to the camera",
        )  # fmt: skip
    if not lossy:
        if dropped and not ways:
            return not_known(Layer.LOSS, f"this machine had no room for {dropped[0].packets_dropped_here} datagrams")
        return holds(Layer.LOSS, told)
    return _lost_where(camera, seen, lossy, ways, told)


def _lost_where(
    camera: Camera, seen: StreamsSeen, lossy: Sequence[StreamMeasurement], ways: Sequence[StreamMeasurement], told: str
) -> Judged:
    """In front of the network or in it: TCP loses nothing on the way; else by the source's own count."""
    by_tcp = next((m for m in lossy if m.transport == "tcp"), None)
    worst = by_tcp or lossy[0]
    places = worst.losses
    before, within = (places.before_network, places.in_network) if places is not None else (None, None)
    how = f", {places.in_words()}" if places is not None and places.gaps else ""
    count = f"{worst.packets_lost} of {worst.packets_lost + worst.packets_received} packets missing{how}"
    counted = (
        f"between two of its reports it numbered {places.numbered}, counted {places.sent} as sent, {places.received} came"
        if places is not None and places.numbered is not None
        else "it sent no two reports to count by"
    )
    if seen.caught is not None:
        counted += f"; where the capture was made {seen.caught[0]} of {sum(seen.caught)} are missing"
        if not seen.caught[0]:
            count += ", and none where the capture was made"
    if by_tcp is not None or (before and not within):
        over = "over TCP, which loses nothing on the way" if by_tcp is not None else counted
        causes = [
            ("it drops packets before it sends them: overload, or too small buffers", f"{count} {over}"),
            ("what passes its stream on (an encoder, a proxy) drops them", counted),
        ]
        return breaks(
            Layer.LOSS, "DGN-32", Blame.CAMERA, f"packets are lost before they leave it: {count}", f"{told}; {counted}",
            causes, f"lower its bit rate or its number of viewers; restart it (`zentrale restart {camera.name}`), update it",
        )  # fmt: skip
    only_here = ", only on the way to here (what is stored is whole)" if seen.stored_whole else ""
    clean_tcp = (seen.caught is not None and not seen.caught[0]) or any(
        m.transport == "tcp" and m not in lossy for m in ways
    )
    if within or clean_tcp:
        by_capture = seen.caught is not None and not seen.caught[0]
        because = counted if within or by_capture else "over TCP, which asks again for what is lost, nothing is missing"
        bursts = places is not None and places.in_bursts
        causes = [
            ("a full link or queue on the way" if bursts else "a bad cable, plug or port on the way", f"{count} over UDP"),
            ("half duplex, or a wrong rate, at one end of a link", because),
        ]  # fmt: skip
        return breaks(
            Layer.LOSS, "DGN-33", Blame.NETWORK, f"packets are lost in the network{only_here}: {count}", f"{told}; {counted}",
            causes, "`zentrale network check` counts errors at each port; then the cable to the camera, then the uplink",
        )  # fmt: skip
    causes = [
        ("the network loses them", f"{count} over {worst.transport.upper()}"),
        ("the camera does not send them", counted),
    ]
    return breaks(
        Layer.LOSS, "DGN-34", Blame.NETWORK, f"packets are missing, and it does not show where: {count}", f"{told}; {counted}",
        causes, "play it at the switch next to the camera: what is missing there too, it did not send",
    )  # fmt: skip


def _percent(m: StreamMeasurement) -> float:
    sent = m.packets_lost + m.packets_received
    return 100 * m.packets_lost / sent if sent else 0.0


def _lost(m: StreamMeasurement) -> str:
    return f"{m.packets_lost} of {m.packets_lost + m.packets_received} packets lost over {m.transport.upper()}"


_PICTURES = {
    "PIC-1": ("it is black", "a cap, a dead sensor, or no light at all", "look at the lens, then at its lamp"),
    "PIC-2": ("it is white", "blinded by sun or lamp, or the exposure is fixed", "look at the lens, then at its exposure"),
    "PIC-3": ("it is out of focus", "its focus was moved, or the lens is wet or dirty", "clean the lens, then focus it"),
    "PIC-4": ("it stands still", "its encoder repeats one picture", "restart it: `zentrale restart {name}`"),
    "PIC-6": ("it is covered", "something stands or hangs before it", "look what is before the lens"),
    "PIC-7": ("it has one colour", "no signal from its sensor", "restart it: `zentrale restart {name}`; then exchange it"),
    "STR-9": ("its pictures cannot be decoded", "its encoder sends damaged pictures", "restart it: `zentrale restart {name}`"),
}  # fmt: skip
_CODES = {"PIC-1": "DGN-36", "PIC-4": "DGN-37", "STR-9": "DGN-41"}


def judge_picture(camera: Camera, seen: StreamsSeen, policy: Policy, why_not: str = "it does not play") -> Judged:
    main = seen.main
    if main is None or main.measured is None:
        return not_known(Layer.PICTURE, why_not)
    item = next((f for f in main.findings if f.code in _PICTURES), None)
    if item is not None:
        says, cause, do = _PICTURES[item.code]
        causes = [(cause, f"{item.code}: {item.measured}"), ("its own settings", "exposure, mask, rotation")]
        return breaks(
            Layer.PICTURE, _CODES.get(item.code, "DGN-42"), Blame.CAMERA, f"{says} ({item.measured})",
            f"{item.code}: {item.measured}", causes, do.format(name=camera.name),
        )  # fmt: skip
    if not main.looked_at:
        why = next((w for aspect, w in main.not_judged.items() if aspect == "picture"), "no picture was decoded")
        return not_known(Layer.PICTURE, why)
    own = seen.shares.get(camera.name)
    if own is None:
        return holds(Layer.PICTURE, "decoded, sharp and alive; no reference picture to compare it with")
    limit = policy.picture_alike_percent / 100
    best = max(seen.shares, key=lambda name: seen.shares[name])
    said = f"its edges agree to {100 * max(own, 0):.0f} % with its reference picture"
    if best != camera.name and seen.shares[best] >= max(_ALIKE, own + _CLEARLY):
        other = f"to {100 * seen.shares[best]:.0f} % with that of {best}"
        causes = [
            ("the two cameras, their cables or their rows are exchanged", f"{said}, and {other}"),
            ("it was turned to what the other one sees", "both would show it then"),
        ]
        return breaks(
            Layer.PICTURE, "DGN-39", Blame.PLAN, f"it shows what {best} shows", f"{said}, {other}", causes,
            f"wave in front of {camera.name}: if {best} shows it, exchange their rows (`zentrale assign`)",
        )  # fmt: skip
    if own < limit / 2:
        causes = [
            ("it was turned, or moved", said),
            ("its view has changed: a lorry, a scaffold, snow, night", "look at the picture before you climb"),
        ]
        return breaks(
            Layer.PICTURE, "DGN-38", Blame.CAMERA, "it does not look where it did", said, causes,
            f"look at output/pictures/{camera.name}-main.jpg beside its reference; turn it back",
        )  # fmt: skip
    return holds(Layer.PICTURE, f"decoded and alive; {said}")
