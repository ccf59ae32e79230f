"""What a part of the planning calculation is: from the plan to a result, and from the result to values, tables, figures."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Mapping, Sequence
from dataclasses import dataclass, field, fields, is_dataclass
from enum import Enum
from typing import Any, Generic, Protocol, TypeVar

from zentrale.findings import Finding
from zentrale.planning.keeping import RecorderKeeping
from zentrale.site.model import Camera, Plan
from zentrale.site.outline import Outline


class HasFindings(Protocol):
    @property
    def findings(self) -> Sequence[Finding]: ...


R = TypeVar("R", bound=HasFindings)


@dataclass(frozen=True)
class Request:
    """How to calculate. `pairs`: for resilience, also let every two parts fail at once; `placement_s`: how long to search
    for a placement; `held`: addresses of registered devices, by name; `keeping`: what is kept at the rates that were measured;
    `watts`: the most that each switch was seen to give, by switch and by day or night; `picture`: of a camera, where one was
    taken; `address`: of a camera's stream, or why there is none; `user`: whom to put into addresses that are written out.
    """

    outline: Outline = field(default_factory=Outline)
    pairs: bool = False
    placement_s: float = 60.0
    held: Mapping[str, str] = field(default_factory=dict)
    keeping: Sequence[RecorderKeeping] = ()
    watts: Mapping[str, Mapping[str, float]] = field(default_factory=dict)
    picture: Callable[[Camera], bytes | None] = lambda camera: None
    address: Callable[[Camera, str], tuple[str, str]] = lambda camera, stream: ("", "not asked for")
    user: str = ""


@dataclass(frozen=True)
class Asked:
    """How much is to be shown: `full` where the part was asked for by name."""

    full: bool = True
    pairs: bool = False


@dataclass(frozen=True)
class Fact:
    """One thing that the result says, for comparing two plans: `text` as a person reads it, `number` where it is one."""

    about: str
    subject: str
    text: str
    number: float | None = None


class Page(Protocol):
    """Where a part is shown: headings, tables and lines, however they look there."""

    def heading(self, text: str) -> None: ...
    def line(self, text: str = "", style: str = "") -> None: ...
    def hint(self, text: str) -> None: ...
    def table(self, columns: Sequence[str], rows: Iterable[Sequence[str]]) -> None: ...


class Made(Protocol):
    """What other parts have made, calculated where it is needed."""

    def of(self, part: Part[R]) -> R: ...


@dataclass(frozen=True)
class Part(Generic[R]):
    """One part.

    document: plain values with stable keys and units in them; every list of rows becomes a CSV table, too
    show:     tables for a person
    figures:  PNG files by name
    applies:  whether it is calculated where all parts are asked for
    proposes: what it would enter into cameras.csv, by camera and column
    summary:  one line where nobody asked for more
    facts:    what is worth comparing between two states of a plan
    lists:    files of its own beside that, by name, made when it is entered
    books:    files beside its CSV tables, by name, made where tables are asked for
    folder:   where its books go, below output/
    """

    name: str
    calculate: Callable[[Plan, Made, Request], R]
    document: Callable[[R], dict[str, object]]
    show: Callable[[Page, Plan, R, Asked], None]
    figures: Callable[[Plan, R], dict[str, bytes]] = lambda plan, result: {}
    applies: Callable[[Plan], bool] = lambda plan: True
    proposes: Callable[[R], Mapping[tuple[str, str], str]] = lambda result: {}
    summary: Callable[[Plan, R], str] = lambda plan, result: "calculated"
    facts: Callable[[Plan, R], Sequence[Fact]] = lambda plan, result: ()
    lists: Callable[[R], dict[str, bytes]] = lambda result: {}
    books: Callable[[R], dict[str, bytes]] = lambda result: {}
    folder: str = "plan"


def plain(value: Any) -> Any:
    """Dataclasses as dictionaries, enums by value, numbers short enough to read."""
    if is_dataclass(value) and not isinstance(value, type):
        return {field.name: plain(getattr(value, field.name)) for field in fields(value)}
    if isinstance(value, Enum):
        return value.value
    if isinstance(value, float):
        return round(value) if abs(value) >= 1e5 else round(value, 3)
    if isinstance(value, dict):
        return {str(plain(key)): plain(item) for key, item in value.items()}
    if isinstance(value, tuple | list):
        return [plain(item) for item in value]
    return value
