"""The plan's parts one by one, before they are a plan: right ones as objects, the others as problems."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping, Sequence
from typing import Any, get_args

from pydantic import BaseModel, ValidationError

from zentrale.site.model import (
    AccessPoint,
    AccountPlan,
    Battery,
    Cabinet,
    Camera,
    CameraType,
    Group,
    InputPlan,
    Link,
    MaskPlan,
    MotionArea,
    NamedRecording,
    Part,
    Placement,
    Policy,
    PortPlan,
    Reach,
    Recorder,
    RecorderType,
    Rule,
    Run,
    Site,
    Switch,
    SwitchType,
    Viewer,
    ViewerType,
    Wall,
    Zone,
)
from zentrale.words import meant

Location = tuple[str | int, ...]
Where = Callable[[Sequence[str | int]], str]

TABLES: dict[str, type[Part]] = {"site": Site, "policy": Policy, "placement": Placement}
LISTS: dict[str, type[Part]] = {
    "zones": Zone,
    "groups": Group,
    "recordings": NamedRecording,
    "camera_types": CameraType,
    "switch_types": SwitchType,
    "recorder_types": RecorderType,
    "viewer_types": ViewerType,
    "switches": Switch,
    "links": Link,
    "recorders": Recorder,
    "batteries": Battery,
    "access_points": AccessPoint,
    "viewers": Viewer,
    "walls": Wall,
    "ports": PortPlan,
    "rules": Rule,
    "reach": Reach,
    "cabinets": Cabinet,
    "runs": Run,
    "accounts": AccountPlan,
    "masks": MaskPlan,
    "motion_areas": MotionArea,
    "inputs": InputPlan,
    "cameras": Camera,
}


class Draft:
    """The plan's parts one by one: those that are right as objects, the others as problems.

    So one wrong field does not hide what else is wrong. `parts` holds the objects, `names` every name that is given, right or
    wrong.
    """

    def __init__(self, data: dict[str, Any], where: Where) -> None:
        self.where = where
        self.problems: list[str] = []
        self.parts: dict[str, Any] = {}
        self._items: dict[str, tuple[tuple[tuple[str | int, ...], Any], ...]] = {}
        self.names: dict[str, set[str]] = {}
        for part, kind in TABLES.items():
            table = self._object(kind, data.get(part, None if part == "site" else {}), (part,))
            if table is not None:
                self.parts[part] = table
        for part, kind in LISTS.items():
            self._list(part, kind, data.get(part, []))

    def _list(self, part: str, kind: type[Part], items: Any) -> None:
        if not isinstance(items, list):
            self.problems.append(f"{self.where((part,))}: found [{part}]; expected [[{part}]], once for each")
            items = []
        pairs = [(i, o) for i, raw in enumerate(items) if (o := self._object(kind, raw, (part, i))) is not None]
        self.parts[part] = tuple(o for _, o in pairs)
        self._items[part] = tuple(((part, i), o) for i, o in pairs)
        self.names[part] = {raw["name"] for raw in items if isinstance(raw, dict) and isinstance(raw.get("name"), str)}

    def _object(self, kind: type[Part], raw: Any, location: tuple[str | int, ...]) -> Part | None:
        if raw is None:
            self.problems.append(f"{self.where(())}: [{location[0]}] is missing; expected the table [{location[0]}]")
            return None
        try:
            return kind.model_validate(raw)
        except ValidationError as error:
            details = error.errors(include_url=False)
            self.problems += [
                _describe({**e, "loc": (*location, *e["loc"])}, self.where, _fields_at(kind, e["loc"])) for e in details
            ]
            return None

    def items(self, part: str) -> tuple[tuple[tuple[str | int, ...], Any], ...]:
        """The right objects of a part, each with its location."""
        return self._items[part]


def wrong_fields(kind: type[Part], raw: Mapping[str, object]) -> Iterator[tuple[str, str]]:
    """What is wrong with single fields of a part: the field, what was found and what was expected."""
    try:
        kind.model_validate(raw)
    except ValidationError as error:
        for trouble in error.errors(include_url=False):
            field = str(trouble["loc"][0]) if trouble["loc"] else ""
            yield field, _describe(trouble, lambda location: "").removeprefix(f": field {field}: ")


# What is expected, for each kind of mistake that the typed objects tell apart.
_EXPECTED = {
    **dict.fromkeys(("int_parsing", "int_type", "int_from_float"), "a whole number"),
    **dict.fromkeys(("float_parsing", "float_type", "finite_number"), "a number"),
    **dict.fromkeys(("bool_parsing", "bool_type"), "true or false"),
    **dict.fromkeys(("tuple_type", "list_type"), "a list in brackets"),
    **dict.fromkeys(("dict_type", "model_type", "model_attributes_type"), "a table"),
    **dict.fromkeys(("literal_error", "enum"), "{expected}"),
    "string_type": "text in quotes", "string_too_short": "some text", "greater_than": "more than {gt}",
    "greater_than_equal": "{ge} or more", "less_than": "less than {lt}", "less_than_equal": "{le} or less",
}  # fmt: skip


def _fields_at(kind: type[Part], location: Sequence[str | int]) -> list[str]:
    """The keys that are known where the last part of `location` stands, as they are written in the file."""
    model: type[BaseModel] = kind
    for name in [part for part in location[:-1] if isinstance(part, str)]:
        field = next((f for n, f in model.model_fields.items() if name in (n, f.alias)), None)
        models = [] if field is None else list(_models(field.annotation))
        if not models:
            return []
        model = models[0]
    return [field.alias or name for name, field in model.model_fields.items()]


def _models(annotation: Any) -> Iterator[type[BaseModel]]:
    if isinstance(annotation, type) and issubclass(annotation, BaseModel):
        yield annotation
    for inner in get_args(annotation):
        yield from _models(inner)


def _describe(error: Any, where: Where, known: Sequence[str] = ()) -> str:
    """A pydantic error as a sentence: where, which field, what was found, what was expected."""
    location = tuple(error["loc"])
    field = ".".join(str(part) for part in location if not isinstance(part, int))
    message = str(error["msg"]).removeprefix("Value error, ")
    kind = error["type"]
    if kind == "missing":
        return f"{where(location)}: field {location[-1]!r} is missing; expected a value"
    if kind == "extra_forbidden":
        word = str(location[-1])
        return f"{where(location)}: found the unknown field {word!r}{meant(word, known)}; known are: {', '.join(known)}"
    if kind == "value_error" and isinstance(error["input"], dict):  # two fields of it contradict each other
        return f"{where(location)}: field {field}: {message}"
    form = _EXPECTED.get(kind)
    expected = f"expected {form.format(**error.get('ctx', {}))}" if form else message
    expected = expected if expected.startswith("expected") else f"expected something else: {expected}"
    found = error["input"]
    shown = repr(found) if isinstance(found, str | int | float) else type(found).__name__
    return f"{where(location)}: field {field}: found {shown}; {expected}"
