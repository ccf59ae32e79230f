"""The layers of a camera's way to the recorder's disk: where a check looks, and where a camera breaks."""

from __future__ import annotations

from enum import IntEnum


class Layer(IntEnum):
    """How far on the way from the plug to the disk; what fails lower down explains what is above."""

    PLAN = 1
    LINK = 2
    ADDRESS = 3
    PORT = 4
    SERVICE = 5
    ACCESS = 6
    STREAM = 7
    LOSS = 8
    PICTURE = 9
    RECORDING = 10

    @property
    def word(self) -> str:
        return self.name.lower()


_FAMILIES = {
    "CLK": Layer.SERVICE, "SEC": Layer.ACCESS, "STR": Layer.STREAM, "PIC": Layer.PICTURE, "REC": Layer.RECORDING,
}  # fmt: skip
_APART = {
    Layer.ADDRESS: ("STR-1", "DIS-1", "DIS-11"),  # nothing answered at all
    Layer.LOSS: ("STR-7", "STR-8", "STR-11", "STR-13", "STR-34"),
    Layer.PICTURE: ("STR-9",),
}
_BY_CODE = {code: layer for layer, codes in _APART.items() for code in codes}


def layer_of(code: str) -> Layer | None:
    """Where a camera breaks of which this is found; None for what is no break of its way."""
    return _BY_CODE.get(code) or _FAMILIES.get(code[:3])
