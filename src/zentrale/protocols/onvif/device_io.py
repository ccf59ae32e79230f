"""Inputs of a device (ONVIF Device IO): in which state each is idle."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass

from zentrale.protocols import xml
from zentrale.protocols.soap import NS, TMD
from zentrale.protocols.xml import Element

_MAX_ITEMS = 64


@dataclass(frozen=True)
class DigitalInput:
    """`idle` closed or open, as xs:string of tmd:DigitalIdleState; empty where the device does not tell it."""

    token: str
    idle: str


def get_inputs() -> Element:
    return TMD.GetDigitalInputs()


def parse_inputs(response: Element) -> list[DigitalInput]:
    found = response.findall("tmd:DigitalInputs", NS)[:_MAX_ITEMS]
    return [DigitalInput(e.get("token", ""), xml.safe(e.get("IdleState", ""))) for e in found]


def set_inputs(inputs: Iterable[DigitalInput]) -> Element:
    """SetDigitalInputConfigurations."""
    return TMD.SetDigitalInputConfigurations(*(_input(i) for i in inputs))


def inputs_response(inputs: Iterable[DigitalInput]) -> Element:
    return TMD.GetDigitalInputsResponse(*(_input(i) for i in inputs))


def parse_set_inputs(request: Element) -> list[DigitalInput]:
    return parse_inputs(request)


def _input(digital_input: DigitalInput) -> Element:
    element = TMD.DigitalInputs(token=digital_input.token)
    if digital_input.idle:
        element.set("IdleState", digital_input.idle)
    return element
