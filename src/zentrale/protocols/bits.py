"""Reading the bit strings of video parameter sets: u(n), ue(v), se(v) of H.264 clause 7.2 and 9.1."""

from __future__ import annotations

from zentrale.errors import RemoteProtocolError


class BitReader:
    """Big-endian bits of `data`. Reading past the end raises RemoteProtocolError."""

    def __init__(self, data: bytes) -> None:
        self._value = int.from_bytes(data, "big")
        self._left = len(data) * 8

    def u(self, bits: int) -> int:
        if bits > self._left:
            raise RemoteProtocolError("parameter set ends in the middle of a field")
        self._left -= bits
        return (self._value >> self._left) & ((1 << bits) - 1)

    def flag(self) -> bool:
        return self.u(1) == 1

    def skip(self, bits: int) -> None:
        self.u(bits)

    def ue(self) -> int:
        """Unsigned Exp-Golomb code; more than 32 leading zeros occur in no standard."""
        zeros = 0
        while not self.flag():
            zeros += 1
            if zeros > 32:
                raise RemoteProtocolError("parameter set holds an impossible Exp-Golomb code")
        return (1 << zeros) - 1 + self.u(zeros)

    def se(self) -> int:
        code = self.ue()
        return (code + 1) // 2 if code % 2 else -(code // 2)


def unescape(nal_payload: bytes) -> bytes:
    """Remove emulation prevention bytes: 00 00 03 becomes 00 00 (H.264 clause 7.4.1, H.265 clause 7.4.2)."""
    return nal_payload.replace(b"\x00\x00\x03", b"\x00\x00")
