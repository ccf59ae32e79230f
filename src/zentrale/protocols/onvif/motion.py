"""Motion detection by cells (ONVIF Analytics: the module CellMotionEngine, the rule CellMotionDetector of its annex).

The picture is a grid of cells; the rule says which of them count, as a bit each, row by row from the upper left, packed
(PackBits, TIFF 6.0 section 9) and in base64.
"""

from __future__ import annotations

import base64
import binascii
import copy
from collections.abc import Iterable, Sequence
from dataclasses import dataclass, field

from zentrale.protocols import xml
from zentrale.protocols.soap import NS, TAN, TT
from zentrale.protocols.xml import Element

_MAX_ITEMS = 64
_MOST_CELLS = 100_000
ENGINE, DETECTOR = "CellMotionEngine", "CellMotionDetector"


@dataclass(frozen=True)
class Item:
    """An analytics module or a rule (tt:Config); `kind` without its prefix. `element`: as the device sent it."""

    name: str
    kind: str
    element: Element = field(compare=False, repr=False)

    def value(self, name: str) -> str:
        items = self.element.findall("tt:Parameters/tt:SimpleItem", NS)[:_MAX_ITEMS]
        return next((xml.safe(e.get("Value", "")) for e in items if e.get("Name") == name), "")

    @property
    def grid(self) -> tuple[int, int]:
        """Columns and rows of the engine's cells; (0, 0) where it tells none."""
        for element in self.element.findall("tt:Parameters/tt:ElementItem", NS)[:_MAX_ITEMS]:
            layout = element.find("tt:CellLayout", NS)
            if layout is not None:
                columns, rows = (round(xml.sensible(layout.get(n, ""))) for n in ("Columns", "Rows"))
                if 0 < columns * rows <= _MOST_CELLS and columns > 0:
                    return columns, rows
        return 0, 0


def get_modules(configuration: str) -> Element:
    return TAN.GetAnalyticsModules(TAN.ConfigurationToken(configuration))


def parse_modules(response: Element) -> list[Item]:
    return _items(response, "tan:AnalyticsModule")


def get_rules(configuration: str) -> Element:
    return TAN.GetRules(TAN.ConfigurationToken(configuration))


def parse_rules(response: Element) -> list[Item]:
    return _items(response, "tan:Rule")


def _items(response: Element, path: str) -> list[Item]:
    return [
        Item(e.get("Name", ""), e.get("Type", "").rpartition(":")[2], e)
        for e in response.findall(path, NS)[:_MAX_ITEMS]
    ]


def modify_module(configuration: str, module: Item, sensitivity: int) -> Element:
    """ModifyAnalyticsModules: all of it as the device sent it, but for the sensitivity (0 to 100)."""
    changed = _changed(TAN.AnalyticsModule(), module, {"Sensitivity": str(sensitivity)})
    return TAN.ModifyAnalyticsModules(TAN.ConfigurationToken(configuration), changed)


def modify_rule(configuration: str, rule: Item, cells: str) -> Element:
    changed = _changed(TAN.Rule(), rule, {"ActiveCells": cells})
    return TAN.ModifyRules(TAN.ConfigurationToken(configuration), changed)


def create_rule(configuration: str, name: str, cells: str) -> Element:
    """CreateRules, with the delays that the annex gives as examples [ms]."""
    values = {"MinCount": "4", "AlarmOnDelay": "100", "AlarmOffDelay": "1000", "ActiveCells": cells}
    rule = TAN.Rule(
        TT.Parameters(*(TT.SimpleItem(Name=n, Value=v) for n, v in values.items())), Name=name, Type=f"tt:{DETECTOR}"
    )
    return TAN.CreateRules(TAN.ConfigurationToken(configuration), rule)


def delete_rule(configuration: str, name: str) -> Element:
    return TAN.DeleteRules(TAN.ConfigurationToken(configuration), TAN.RuleName(name))


def _changed(element: Element, item: Item, values: dict[str, str]) -> Element:
    element.extend(copy.deepcopy(list(item.element)))
    for key, value in item.element.attrib.items():
        element.set(key, value)
    parameters = element.find("tt:Parameters", NS)
    if parameters is None:
        parameters = TT.Parameters()
        element.append(parameters)
    for name, value in values.items():
        held = next((e for e in parameters.findall("tt:SimpleItem", NS) if e.get("Name") == name), None)
        if held is None:
            parameters.insert(0, TT.SimpleItem(Name=name, Value=value))
        else:
            held.set("Value", value)
    return element


def pack(active: Sequence[bool]) -> str:
    """Cells as the rule has them: one bit each, the first the highest of its byte."""
    raw = bytearray((len(active) + 7) // 8)
    for index, on in enumerate(active):
        if on:
            raw[index // 8] |= 0x80 >> index % 8
    return base64.b64encode(_pack_bits(bytes(raw))).decode()


def unpack(text: str, count: int) -> tuple[bool, ...]:
    """The `count` cells of a rule's text; those it does not tell do not count. Raises ValueError where it is none."""
    try:
        raw = _unpack_bits(base64.b64decode(text, validate=True), (count + 7) // 8)
    except binascii.Error as error:
        raise ValueError(f"not base64: {error}") from None
    bits = (bool(byte & 0x80 >> bit) for byte in raw for bit in range(8))
    cells = tuple(on for on, _ in zip(bits, range(count), strict=False))
    return cells + (False,) * (count - len(cells))


def _pack_bits(raw: bytes) -> bytes:
    packed, at = bytearray(), 0
    while at < len(raw):
        run = 1
        while run < 128 and at + run < len(raw) and raw[at + run] == raw[at]:
            run += 1
        if run > 1:
            packed += bytes((257 - run, raw[at]))
            at += run
            continue
        end = at + 1
        while end < len(raw) and end - at < 128 and not (end + 1 < len(raw) and raw[end] == raw[end + 1]):
            end += 1
        packed += bytes((end - at - 1,)) + raw[at:end]
        at = end
    return bytes(packed)


def _unpack_bits(packed: bytes, most: int) -> bytes:
    raw, at = bytearray(), 0
    while at < len(packed) and len(raw) < most:
        head = packed[at]
        if head < 128:
            raw += packed[at + 1 : at + 2 + head]
            at += 2 + head
        elif head == 128:
            at += 1
        else:
            raw += packed[at + 1 : at + 2] * (257 - head)
            at += 2
    return bytes(raw[:most])


# The other role, for stand-ins


def modules_response(sensitivity: int, columns: int, rows: int) -> Element:
    layout = TT.ElementItem(TT.CellLayout(Columns=str(columns), Rows=str(rows)), Name="Layout")
    module = TAN.AnalyticsModule(
        TT.Parameters(TT.SimpleItem(Name="Sensitivity", Value=str(sensitivity)), layout),
        Name="motion",
        Type=f"tt:{ENGINE}",
    )
    return TAN.GetAnalyticsModulesResponse(module)


def rules_response(rules: Iterable[tuple[str, str]]) -> Element:
    """`rules` are pairs of a name and its cells."""
    made = []
    for name, cells in rules:
        rule = create_rule("", name, cells).find("tan:Rule", NS)
        assert rule is not None
        made.append(rule)
    return TAN.GetRulesResponse(*made)


def parse_request(request: Element) -> Item | None:
    """The module or rule that a request to modify or create carries."""
    found = [*_items(request, "tan:AnalyticsModule"), *_items(request, "tan:Rule")]
    return found[0] if found else None
