"""Schedules (ONVIF Schedule Service specification): hours of the week that a recording job may be bound to by their token."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass

from zentrale.protocols import xml
from zentrale.protocols.soap import NS, TSC
from zentrale.protocols.xml import Element

_MAX_ITEMS = 256
_MOST_TEXT = 32_000


@dataclass(frozen=True)
class Schedule:
    """`standard` is its iCalendar; `special`: it has days on which other hours hold."""

    token: str
    name: str
    standard: str
    special: bool = False


def _schedule(element: Element, schedule: Schedule) -> Element:
    element.set("token", schedule.token)
    element.extend([TSC.Name(schedule.name), TSC.Standard(schedule.standard)])
    return element


def _parse(element: Element) -> Schedule:
    found = element.find("tsc:Standard", NS)
    standard = "" if found is None else (found.text or "")[:_MOST_TEXT]
    token = xml.safe(str(element.get("token") or ""))
    return Schedule(token, xml.text(element, "tsc:Name", NS), standard, element.find("tsc:SpecialDays", NS) is not None)


def get_list(start: str = "") -> Element:
    """GetScheduleList; `start` as an answer before has told it."""
    return TSC.GetScheduleList(*([TSC.StartReference(start)] if start else []))


def list_request(request: Element) -> str:
    return xml.text(request, "tsc:StartReference", NS)


def list_response(schedules: Iterable[Schedule], following: str = "") -> Element:
    more = [TSC.NextStartReference(following)] if following else []
    return TSC.GetScheduleListResponse(*more, *[_schedule(TSC.Schedule(), s) for s in schedules])


def parse_list(response: Element) -> tuple[list[Schedule], str]:
    """The schedules, and where the next are to be asked from; empty where these were the last."""
    found = [_parse(e) for e in response.findall("tsc:Schedule", NS)[:_MAX_ITEMS]]
    return found, xml.text(response, "tsc:NextStartReference", NS)


def create(schedule: Schedule) -> Element:
    """CreateSchedule: its token is empty, since the device gives one."""
    return TSC.CreateSchedule(_schedule(TSC.Schedule(), schedule))


def create_request(request: Element) -> Schedule | None:
    element = request.find("tsc:Schedule", NS)
    return None if element is None else _parse(element)


def create_response(token: str) -> Element:
    return TSC.CreateScheduleResponse(TSC.Token(token))


def parse_create(response: Element) -> str:
    return xml.text(response, "tsc:Token", NS)


def delete(token: str) -> Element:
    return TSC.DeleteSchedule(TSC.Token(token))


def token_of(request: Element) -> str:
    return xml.text(request, "tsc:Token", NS)
