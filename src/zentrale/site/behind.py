"""Cameras at a recorder's own ports: what their rows leave out, and what must not stand in them."""

from __future__ import annotations

from collections.abc import Collection, Iterator, Mapping, Sequence
from typing import Any

from zentrale.site.draft import Draft
from zentrale.site.lenses import device_rows
from zentrale.site.model import Camera, Recorder, RecorderType

BY_PORT = "by-port"
MOST_CHANNELS = 1024
# What the recorder decides, or has in place of a switch.
_NOT_ITS_OWN = {
    "switch": "", "wireless": "", "address": None, "http_port": None, "rtsp_port": None, "multicast_main": None,
    "multicast_sub": None, "addressing": "",
}  # fmt: skip


def fill_rows(rows: Sequence[dict[str, Any]], site: Mapping[str, Any]) -> None:
    """Where a row has `behind`: its recorder and zone are that recorder's, and its channel its port's where they go by port.

    Where that recorder, or the port, is missing, that is said of these alone, and not of all that would follow from them.
    """
    named, zones = _named(site, "recorders"), _named(site, "zones")
    for number, row in enumerate(rows):
        if not row.get("behind"):
            continue
        recorder = named.get(row["behind"], {"zone": next(iter(zones), ""), "channels": BY_PORT})
        first = str(row.get("source", "")).strip() in ("", "1")
        by_port = recorder.get("channels") == BY_PORT and first
        filled: dict[str, Any] = {"recorder": row["behind"], "zone": recorder.get("zone", "")}
        if by_port:
            filled["channel"] = row.get("port") or str(MOST_CHANNELS - number % MOST_CHANNELS)
        row.update({column: value for column, value in filled.items() if not str(row.get(column, "")).strip()})


def _named(site: Mapping[str, Any], part: str) -> dict[Any, dict[str, Any]]:
    listed = site.get(part)
    return {r.get("name"): r for r in listed if isinstance(r, dict)} if isinstance(listed, list) else {}


def behind_problems(draft: Draft, next_channels: Collection[str] = ()) -> Iterator[str]:
    """Each with its place, what was found and what was expected. next_channels: cameras whose row has `next` for a channel"""
    recorders = {r.name: r for _, r in draft.items("recorders")}
    types = {t.name: t for _, t in draft.items("recorder_types")}
    rows = device_rows(draft.parts["cameras"])
    first: dict[tuple[str, int], Camera] = {}
    for at, camera in draft.items("cameras"):
        recorder = recorders.get(camera.behind)
        if recorder is None:
            continue  # that it must exist is said where the references are looked at
        if camera.name in next_channels:
            said = f"found 'next'; expected its number, since {recorder.name} gives its own ports their channels"
            yield f"{draft.where((*at, 'channel'))}: field channel: {said}"
        for field, found, expected in _wrong(
            camera, recorder, types.get(recorder.type), whole=rows[camera.name] == camera.name
        ):
            yield f"{draft.where((*at, field))}: field {field}: found {found!r}; expected {expected}"
        other = first.setdefault((camera.behind, camera.port), camera)
        if camera.port and rows[other.name] != rows[camera.name]:
            taken = f"port '{camera.behind}:{camera.port}' is already used at {other.where}"
            yield f"{draft.where((*at, 'port'))}: field port: {taken}; expected each only once"


def _wrong(
    camera: Camera, recorder: Recorder, kind: RecorderType | None, *, whole: bool
) -> Iterator[tuple[str, object, str]]:
    """Field, what stands in it, and what is expected there."""
    own = f"empty, since it stands at a port of recorder {recorder.name}"
    for field, empty in _NOT_ITS_OWN.items():
        value = getattr(camera, field)
        if value != empty:
            yield field, str(value), own
    if camera.recorder != recorder.name:
        yield "recorder", camera.recorder, f"{recorder.name!r}, at whose port it stands"
    if camera.zone != recorder.zone:
        yield "zone", camera.zone, f"{recorder.zone!r}, the zone of the recorder at whose port it stands, or empty"
    if kind is not None and not kind.poe_ports:
        yield (
            "behind",
            camera.behind,
            f"a recorder with ports of its own (poe_ports in types.toml; {kind.name} has none)",
        )
    elif kind is not None and not 1 <= camera.port <= kind.poe_ports:
        yield "port", camera.port or "", f"1 to {kind.poe_ports} (recorder {recorder.name} is a {kind.name})"
    elif kind is not None and recorder.channels == BY_PORT and whole and camera.channel != camera.port:
        yield "channel", camera.channel, f"{camera.port}, its port, or empty: channels of {recorder.name} go by port"
