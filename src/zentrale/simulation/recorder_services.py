"""What a stand-in recorder offers beside its channels: schedules, and events by pull point."""

from __future__ import annotations

import io
import secrets
import struct
import zoneinfo
from collections.abc import Callable
from dataclasses import replace
from datetime import datetime
from functools import cache

from zentrale.errors import SoapRefusalError
from zentrale.protocols import soap, weekly
from zentrale.protocols.onvif import schedule
from zentrale.protocols.xml import Element

SCHEDULE_PATH = "/onvif/schedule_service"
_PAGE = 10  # schedules in one answer


@cache
def _zone(posix: str) -> zoneinfo.ZoneInfo:
    """By a POSIX time zone (POSIX.1 clause 8.3; RFC 9636, a file of version 2 without transitions)."""
    head = [b"TZif2" + bytes(15) + struct.pack("!6l", 0, 0, 0, 0, 1, 4), struct.pack("!lbb", 0, 0, 0) + b"UTC\0"]
    file = io.BytesIO(b"".join([*head, *head, b"\n", posix.encode(), b"\n"]))
    return zoneinfo.ZoneInfo.from_file(file)


class Schedules:
    """Told in pages of a few."""

    def __init__(self) -> None:
        self.held: dict[str, schedule.Schedule] = {}
        self._minutes: dict[str, frozenset[int]] = {}

    def operations(self) -> dict[str, Callable[[Element], Element]]:
        return {"GetScheduleList": self._list, "CreateSchedule": self._create, "DeleteSchedule": self._delete}

    def runs(self, token: str, now_s: float, posix: str) -> bool:
        """ONVIF Recording Control: only where the schedule exists and is active. Asked for every packet."""
        at = datetime.fromtimestamp(now_s, _zone(posix))
        return (at.weekday() * 24 + at.hour) * 60 + at.minute in self._minutes.get(token, frozenset())

    def _list(self, request: Element) -> Element:
        start = int(schedule.list_request(request) or 0)
        some = list(self.held.values())
        following = str(start + _PAGE) if start + _PAGE < len(some) else ""
        return schedule.list_response(some[start : start + _PAGE], following)

    def _create(self, request: Element) -> Element:
        wanted = schedule.create_request(request)
        if wanted is None or wanted.token:
            raise SoapRefusalError("Sender", "InvalidArgVal", reason="a schedule with a token of its own")
        token = f"SCH{secrets.token_hex(3)}"
        self._minutes[token] = weekly.minutes_of(wanted.standard)
        self.held[token] = replace(wanted, token=token)
        return schedule.create_response(token)

    def _delete(self, request: Element) -> Element:
        if self.held.pop(schedule.token_of(request), None) is None:
            raise SoapRefusalError("Sender", "InvalidArgVal", "NotFound", reason="no such schedule")
        return soap.TSC.DeleteScheduleResponse()
