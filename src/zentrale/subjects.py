"""Who is meant: a subject (`Ref`) is a planned thing or a part of one. Text is made of it only where it is shown."""

from __future__ import annotations

from dataclasses import dataclass, replace
from enum import Enum


class Kind(Enum):
    """What a subject is."""

    CAMERA = "camera"
    RECORDER = "recorder"
    SWITCH = "switch"
    DEVICE = "device at"  # one that is not in the plan; its name is its address
    MACHINE = "this machine"  # which looked, and was in its own way; its name is the host's


@dataclass(frozen=True)
class Ref:
    """A subject: a camera, a recorder or an unplanned device, and a part of it (a stream, a channel) or the whole."""

    kind: Kind
    name: str
    part: str = ""

    def __str__(self) -> str:
        if self.kind is Kind.MACHINE:
            return str(self.kind.value)
        if self.kind is Kind.RECORDER and self.part:
            return f"{self.part} of {self.name}"
        whole = f"{self.kind.value} {self.name}"
        return f"{whole}, {self.part}" if self.part else whole

    @property
    def whole(self) -> Ref:
        """The device that it is a part of."""
        return replace(self, part="")
