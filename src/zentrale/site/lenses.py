"""Rows of the schedule that are one device: a camera with several lenses or video inputs has a row for each.

They stand at one port (wireless ones, and those whose port is open, have one MAC address, serial number or address) and are told
apart by their `source`. The row of the first source stands for the device: its name is the device's own, and
its password's in the vault.
"""

from __future__ import annotations

from collections.abc import Hashable, Iterable, Iterator, Mapping, Sequence
from typing import Any, Protocol, TypeVar

# What is the device's own, so that all its rows say the same. What one of them leaves empty is as another has it.
OF_THE_DEVICE = (
    "type", "zone", "switch", "port", "run_length_m", "address", "mac", "mac_end", "serial", "supply", "priority",
    "conductor_awg", "cable_category", "route", "cable_kind", "http_port", "rtsp_port", "wireless", "addressing", "behind",
)  # fmt: skip


_OPEN = (None, "", 0)


class Row(Protocol):
    """What a row of the schedule must tell for this."""

    @property
    def name(self) -> str: ...
    @property
    def source(self) -> int | None: ...
    @property
    def switch(self) -> str: ...
    @property
    def port(self) -> int: ...
    @property
    def wireless(self) -> str: ...
    @property
    def behind(self) -> str: ...
    @property
    def mac(self) -> str | None: ...
    @property
    def mac_end(self) -> str | None: ...
    @property
    def serial(self) -> str: ...
    @property
    def host(self) -> str: ...
    def model_copy(self, *, update: Mapping[str, Any] | None = None) -> Any: ...


R = TypeVar("R", bound=Row)


def _place(camera: Row) -> Hashable:
    """Where the device stands; None for a row that says no source, which is a device of its own."""
    if camera.source is None:
        return None
    alone = not camera.wireless and camera.port
    own = "" if alone else camera.mac or camera.serial or camera.mac_end or camera.host or camera.name
    return camera.behind, camera.switch, camera.port, own


def device_rows(cameras: Iterable[Row]) -> dict[str, str]:
    """For each camera's name that of the row that stands for its device."""
    by_place: dict[Hashable, list[Row]] = {}
    rows = {}
    for camera in cameras:
        place = _place(camera)
        if place is not None:
            by_place.setdefault(place, []).append(camera)
        rows[camera.name] = camera.name
    for some in by_place.values():
        first = min(some, key=lambda c: c.source or 0)
        rows.update({c.name: first.name for c in some})
    return rows


def filled(cameras: Sequence[R]) -> tuple[R, ...]:
    """With what a row of a device leaves empty as another row of it has it."""
    rows = device_rows(cameras)
    by_device: dict[str, list[R]] = {}
    for camera in cameras:
        by_device.setdefault(rows[camera.name], []).append(camera)

    def one(camera: R) -> R:
        some = by_device[rows[camera.name]]
        by_field = {f: [v for c in some if (v := getattr(c, f)) not in _OPEN] for f in OF_THE_DEVICE}
        empty = {f: by_field[f][0] for f in OF_THE_DEVICE if by_field[f] and getattr(camera, f) in _OPEN}
        filled_row: R = camera.model_copy(update=empty) if empty else camera
        return filled_row

    return tuple(map(one, cameras))


def unlike(cameras: Sequence[R], rows: Mapping[str, str]) -> Iterator[tuple[R, str, R]]:
    """Rows that say something else of their device than its first: the row, the field, the first row."""
    named = {c.name: c for c in cameras}
    for camera in cameras:
        first = named[rows[camera.name]]
        yield from (
            (camera, field, first) for field in OF_THE_DEVICE if getattr(camera, field) != getattr(first, field)
        )
