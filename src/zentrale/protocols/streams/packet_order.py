"""Packets into their order before they are put together: UDP swaps some, and a player that takes them as they come sees
damaged pictures that nobody else sees.
"""

from __future__ import annotations

from collections.abc import Iterator

from zentrale.protocols.rtp import RtpPacket
from zentrale.protocols.streams.packet_runs import REORDER_PACKETS, REORDER_S


class PacketOrder:
    """Holds back what came too early, for at most 64 packets or 200 ms: as long as a player would wait."""

    def __init__(self) -> None:
        self._next: int | None = None
        self._waiting: dict[int, tuple[RtpPacket, float]] = {}

    def push(self, packet: RtpPacket, arrival_s: float) -> Iterator[RtpPacket]:
        """The packets whose turn it is now. One that comes too late, or twice, comes out nowhere."""
        if self._next is None:
            self._next = packet.sequence
        ahead = (packet.sequence - self._next) & 0xFFFF
        if ahead >= 0x8000:
            return
        self._waiting.setdefault(packet.sequence, (packet, arrival_s))
        yield from self._in_turn()
        oldest = min((at for _, at in self._waiting.values()), default=arrival_s)
        if self._waiting and (len(self._waiting) > REORDER_PACKETS or arrival_s - oldest > REORDER_S):
            number = self._next
            self._next = min(self._waiting, key=lambda sequence: (sequence - number) & 0xFFFF)
            yield from self._in_turn()

    def _in_turn(self) -> Iterator[RtpPacket]:
        while self._next is not None and self._next in self._waiting:
            packet, _ = self._waiting.pop(self._next)
            self._next = (self._next + 1) & 0xFFFF
            yield packet
