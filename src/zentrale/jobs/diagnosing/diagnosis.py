"""What is said of one device in the end: where on its way it breaks, who is to blame, the likely causes, what to do."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from enum import Enum

from zentrale.findings.catalogue import entry
from zentrale.jobs.known.layer import Layer
from zentrale.subjects import Ref


class State(Enum):
    HOLDS = "holds"
    BREAKS = "breaks"
    NOT_KNOWN = "not known"


class Blame(Enum):
    """Who has to act."""

    CAMERA = "camera"
    NETWORK = "network"
    RECORDER = "recorder"
    PLAN = "plan"
    PASSWORD = "password"
    MACHINE = "this machine"


@dataclass(frozen=True)
class LayerSeen:
    """One layer, and what was seen there, in numbers."""

    layer: Layer
    state: State
    seen: str

    def document(self) -> dict[str, str]:
        return {"layer": self.layer.word, "state": self.state.value, "seen": self.seen}


@dataclass(frozen=True)
class Cause:
    """One likely cause, with what speaks for it here."""

    cause: str
    because: str

    def document(self) -> dict[str, str]:
        return {"cause": self.cause, "because": self.because}


MOST_CAUSES = 3


@dataclass(frozen=True)
class Trouble:
    """What breaks. `code` is in the registry of codes; `says` goes behind "breaks at the LAYER"."""

    code: str
    layer: Layer
    blame: Blame
    says: str
    causes: tuple[Cause, ...]
    next: str

    def __post_init__(self) -> None:
        entry(self.code)  # a defect where it is none
        assert 1 <= len(self.causes) <= MOST_CAUSES


Judged = tuple[LayerSeen, Trouble | None]


def holds(layer: Layer, seen: str) -> Judged:
    return LayerSeen(layer, State.HOLDS, seen), None


def not_known(layer: Layer, why: str) -> Judged:
    return LayerSeen(layer, State.NOT_KNOWN, why), None


def breaks(
    layer: Layer, code: str, blame: Blame, says: str, seen: str, causes: Sequence[tuple[str, str]], next: str
) -> Judged:
    """`causes`: each with what speaks for it, the likeliest first."""
    some = tuple(Cause(*pair) for pair in causes[:MOST_CAUSES])
    return LayerSeen(layer, State.BREAKS, seen), Trouble(code, layer, blame, says, some, next)


@dataclass(frozen=True)
class Diagnosis:
    """`layers` in their order, those that the device has; `trouble` of the lowest that breaks; `others` what breaks above it;
    `figures`: what it does, where it is well
    """

    ref: Ref
    layers: tuple[LayerSeen, ...]
    trouble: Trouble | None = None
    others: tuple[Trouble, ...] = ()
    figures: str = ""
    address: str = ""
    kind: str = ""

    @property
    def name(self) -> str:
        return self.ref.name

    @property
    def unknown(self) -> list[LayerSeen]:
        """What was not seen, though something above it was not either: a layer below one that holds was passed."""
        highest = max((s.layer for s in self.layers if s.state is State.HOLDS), default=Layer.PLAN)
        return [s for s in self.layers if s.state is State.NOT_KNOWN and s.layer > highest]

    @property
    def says(self) -> str:
        """The verdict, in one sentence."""
        if self.trouble is not None:
            return f"breaks at the {self.trouble.layer.word}: {self.trouble.says}"
        if self.unknown:
            left = ", ".join(s.layer.word for s in self.unknown)
            return f"nothing breaks as far as was seen; not known: {left}{self._figures}"
        return f"well{self._figures}"

    @property
    def _figures(self) -> str:
        return f": {self.figures}" if self.figures else ""

    @property
    def phone(self) -> str:
        """To be read out to somebody who sees nothing of this."""
        where = f" at {self.address}" if self.address else ""
        kind = f" ({self.kind})" if self.kind else ""
        if self.trouble is None:
            return f"{self.name}{kind}{where}: {self.says}."
        at = f"breaks at the {self.trouble.layer.word}, {self.trouble.says}"
        return f"{self.name}{kind}{where} {at}. Code {self.trouble.code}. Next: {self.trouble.next}"

    def document(self) -> dict[str, object]:
        trouble = self.trouble
        return {
            "camera": self.name,
            "kind": self.ref.kind.value,
            "broken_at": trouble.layer.word if trouble else None,
            "blame": trouble.blame.value if trouble else None,
            "code": trouble.code if trouble else None,
            "says": self.says,
            "causes": [c.document() for c in trouble.causes] if trouble else [],
            "next": trouble.next if trouble else None,
            "phone": self.phone,
            "layers": [s.document() for s in self.layers],
            "also": [
                {"broken_at": t.layer.word, "blame": t.blame.value, "code": t.code, "says": t.says} for t in self.others
            ],
        }


def concluded(ref: Ref, judged: Sequence[Judged], *, figures: str = "", address: str = "", kind: str = "") -> Diagnosis:
    """The lowest layer that breaks is the cause; what breaks above it is told beside, where it does not follow from that."""
    troubles = [trouble for _, trouble in judged if trouble is not None]
    layers = tuple(seen for seen, _ in judged)
    others = tuple(t for n, t in enumerate(troubles[1:], start=1) if not any(_explains(low, t) for low in troubles[:n]))
    return Diagnosis(ref, layers, next(iter(troubles), None), others, figures, address, kind)


# A wrong clock, another setting, one way of several: nothing above needs to break by that.
_HARMLESS_ABOVE = frozenset({"DGN-1", "DGN-17", "DGN-26", "DGN-27", "DGN-31"})
_BY_LOSS = frozenset({"DGN-41", "DGN-48", "DGN-52"})


def _explains(low: Trouble, high: Trouble) -> bool:
    """Whether what breaks above follows from what breaks below."""
    if low.layer is Layer.LOSS:
        return high.code in _BY_LOSS
    return low.layer < Layer.LOSS and low.code not in _HARMLESS_ABOVE
