"""What no field of the plan can tell alone: names that must exist, names and places that must be used once."""

from __future__ import annotations

from collections.abc import Collection, Iterable, Iterator
from typing import Any

from zentrale.site.draft import LISTS, Draft, Location, Where
from zentrale.site.lenses import device_rows, unlike
from zentrale.site.model import EVERYWHERE, INTERNET, Camera
from zentrale.site.timezone import posix_timezone
from zentrale.words import meant

# Which field of which part names an item of which other part. A field that holds several names, or none, is taken as
# it is; a dot goes into a part's own parts.
_REFERENCES = (
    ("zones", "primary", "zones"),
    ("zones", "querier", "switches"),
    ("switches", "type", "switch_types"),
    ("switches", "management.zone", "zones"),
    ("recorders", "type", "recorder_types"),
    ("recorders", "zone", "zones"),
    ("recorders", "switch", "switches"),
    ("recorders", "viewing.zone", "zones"),
    ("recorders", "viewing.switch", "switches"),
    ("access_points", "switch", "switches"),
    ("access_points", "networks.zone", "zones"),
    ("viewers", "zone", "zones"),
    ("viewers", "switch", "switches"),
    ("viewers", "groups", "groups"),
    ("viewers", "type", "viewer_types"),
    ("walls", "viewer", "viewers"),
    ("ports", "access", "zones"),
    ("ports", "tagged", "zones"),
    ("ports", "native", "zones"),
    ("runs", "camera", "cameras"),
    ("runs", "cabinet", "cabinets"),
    ("masks", "camera", "cameras"),
    ("motion_areas", "camera", "cameras"),
    ("inputs", "camera", "cameras"),
    ("cameras", "type", "camera_types"),
    ("cameras", "group", "groups"),
    ("cameras", "recording", "recordings"),
    ("cameras", "zone", "zones"),
    ("cameras", "switch", "switches"),
    ("cameras", "recorder", "recorders"),
    ("cameras", "behind", "recorders"),
)
_UNNAMED = ("links", "ports", "rules", "reach", "runs", "accounts", "masks", "motion_areas", "inputs")
_DEVICES = ("recorders", "viewers", "access_points", "cameras")


def cross_check(draft: Draft, kinds: Collection[str] | None = None) -> list[str]:
    """Every problem, each with its place, what was found and what was expected. `kinds` are those of recorders that there are;
    None: they are not looked at.
    """
    where = draft.where
    problems: list[str] = []
    for at, kind in draft.items("recorder_types"):
        if kinds is not None and kind.control not in kinds:
            found = f"found {kind.control!r}{meant(kind.control, kinds)}; expected one of: {', '.join(kinds)}"
            problems.append(f"{where((*at, 'control'))}: field recorder_types.control: {found}")
    if "site" in draft.parts:
        try:
            posix_timezone(draft.parts["site"].timezone)
        except ValueError as error:
            problems.append(f"{where(('site', 'timezone'))}: field site.timezone: {error}")
    for part in LISTS:
        if part not in _UNNAMED:
            problems += _used_once("name", [(item.name, (*at, "name")) for at, item in draft.items(part)], where)
    vlans = [(f"VLAN {zone.vlan}", (*at, "vlan")) for at, zone in draft.items("zones")]
    problems += _used_once("the network", vlans, where)
    problems += _references(draft)
    problems += _private_vlans(draft)
    problems += _device_names(draft)
    problems += _ports(draft)
    problems += _wireless(draft)
    addressed = [(at, d) for part in ("recorders", "cameras") for at, d in _devices(draft, part)]
    legs = [((*at, "viewing"), r.viewing) for at, r in draft.items("recorders") if r.viewing is not None]
    pages = [((*at, "management"), s.management) for at, s in draft.items("switches") if s.management is not None]
    for field in ("address", "mac"):
        taken = [(_place(device, field, value), (*at, field)) for at, device in [*addressed, *legs, *pages]
                 if (value := getattr(device, field, None))]  # fmt: skip
        problems += _used_once(field, taken, where)
    problems += _lenses(draft)
    channels = [(f"{c.recorder} channel {c.channel}", (*at, "channel")) for at, c in draft.items("cameras")]
    problems += _used_once("channel", channels, where)
    users = [(a.user, (*at, "user")) for at, a in draft.items("accounts")]
    problems += _used_once("account", users, where)
    problems += _recorder_account(draft)
    inputs = [(f"{i.camera} input {i.number}", (*at, "number")) for at, i in draft.items("inputs")]
    problems += _used_once("input", inputs, where)
    runs = [(f"{r.camera} to {r.cabinet}", (*at, "run_length_m")) for at, r in draft.items("runs")]
    problems += _used_once("run", runs, where)
    problems += _positions(draft)
    asked = [(group, (*at, f"multicast_{stream}")) for stream in ("main", "sub") for at, c in draft.items("cameras")
             if (group := getattr(c, f"multicast_{stream}"))]  # fmt: skip
    return problems + _used_once("multicast group", asked, where)


def _devices(draft: Draft, part: str) -> list[tuple[Location, Any]]:
    """The items of a part, each device once."""
    rows = device_rows(draft.parts["cameras"])
    return [(at, d) for at, d in draft.items(part) if part != "cameras" or rows[d.name] == d.name]


def _lenses(draft: Draft) -> Iterator[str]:
    """The rows of one device agree on what is the device's own, and each is another lens of it."""
    cameras = draft.parts["cameras"]
    rows = device_rows(cameras)
    places = {c.name: at for at, c in draft.items("cameras")}
    for camera, field, first in unlike(cameras, rows):
        found, expected = (str(getattr(c, field) or "") for c in (camera, first))
        yield (
            f"{draft.where((*places[camera.name], field))}: field {field}: found {found!r}; expected {expected!r}, as "
            f"{first.where} has it: both are lenses of the device at {first.place}"
        )
    uses = [(f"{c.source} of {rows[c.name]}", (*places[c.name], "source")) for c in cameras if c.source is not None]
    yield from _used_once("source", uses, draft.where)


def _place(device: Any, field: str, value: object) -> str:
    """A translation's address is shared, as long as the ports tell its cameras apart."""
    if field == "address" and isinstance(device, Camera) and device.translated:
        return f"{value} with http_port {device.http_port or '-'} and rtsp_port {device.rtsp_port or '-'}"
    return str(value)


def _recorder_account(draft: Draft) -> Iterator[str]:
    """The account that recorders watch with may do nothing else, so people have others."""
    name = draft.parts["policy"].recorder_account if "policy" in draft.parts else ""
    for at, account in draft.items("accounts"):
        if name and account.user == name:
            yield (
                f"{draft.where((*at, 'user'))}: field user: found {name!r}; expected another one: recorders watch with "
                "it (policy.recorder_account)"
            )


def _references(draft: Draft) -> Iterator[str]:
    for part, field, target in _REFERENCES:
        for at, item in draft.items(part):
            for value in _values(item, field.split(".")):
                yield from _must_exist((*at, *field.split(".")), value, draft.names[target], target, draft.where)
    fed = draft.names["switches"] | draft.names["recorders"]
    for at, battery in draft.items("batteries"):
        for name in battery.feeds:
            yield from _must_exist((*at, "feeds"), name, fed, "switches or recorders", draft.where)
    if "policy" in draft.parts:
        for group in draft.parts["policy"].resilient_groups:
            at = ("policy", "resilient_groups")
            yield from _must_exist(at, group, draft.names["groups"], "groups", draft.where)
    if "placement" in draft.parts:
        for kind in draft.parts["placement"].switch_types:
            at = ("placement", "switch_types")
            yield from _must_exist(at, kind, draft.names["switch_types"], "switch_types", draft.where)
    ends = draft.names["zones"] | {INTERNET, EVERYWHERE}
    for part in ("rules", "reach"):
        for at, item in draft.items(part):
            for field, value in (("from", item.origin), ("to", item.to)):
                yield from _must_exist((*at, field), value, ends, "zones", draft.where)


def _private_vlans(draft: Draft) -> Iterator[str]:
    """A secondary VLAN belongs to a primary, which belongs to none, and has its subnet (RFC 5517)."""
    zones = {zone.name: zone for _, zone in draft.items("zones")}
    for at, zone in draft.items("zones"):
        primary = zones.get(zone.primary or "")
        if primary is None:
            continue
        if primary is zone or primary.primary is not None:
            found = f"found {zone.primary!r}; expected a zone that is no secondary itself"
            yield f"{draft.where((*at, 'primary'))}: field primary: {found}"
        elif primary.subnet != zone.subnet:
            found = f"found {str(zone.subnet)!r}; expected {str(primary.subnet)!r}, the subnet of its primary {primary.name}"
            yield f"{draft.where((*at, 'subnet'))}: field subnet: {found}"


def _positions(draft: Draft) -> Iterator[str]:
    for at, cabinet in draft.items("cabinets"):
        for field, other in (("x_m", "y_m"), ("y_m", "x_m")):
            if getattr(cabinet, field) is None and getattr(cabinet, other) is not None:
                yield f"{draft.where((*at, other))}: field {field} is missing; expected it beside {other}"


def _values(item: object, fields: list[str]) -> Iterator[str]:
    """The names that a field holds: one, several or none."""
    value = getattr(item, fields[0])
    for each in value if isinstance(value, tuple) else (value,):
        if each is None or each == "":
            continue
        if len(fields) > 1:
            yield from _values(each, fields[1:])
        else:
            yield each


def _must_exist(location: Location, value: str, names: set[str], part: str, where: Where) -> Iterator[str]:
    if value not in names:
        kind = part.replace("_", " ").removesuffix("es" if part == "switches" else "s")
        have = ", ".join(sorted(names)) if names else "none is defined"
        yield f"{where(location)}: field {location[-1]}: found {value!r}; expected a {kind}: {have}"


def _device_names(draft: Draft) -> Iterator[str]:
    """Devices of all kinds share one set of names, since people say only the name."""
    first: dict[str, tuple[str, Location]] = {}
    for part in _DEVICES:
        for at, item in draft.items(part):
            known = first.setdefault(item.name, (part, at))
            if known[0] != part:
                yield (
                    f"{draft.where((*at, 'name'))}: field name: name {item.name!r} is already used at "
                    f"{draft.where(known[1])}; expected each only once"
                )
    for at, port in draft.items("ports"):
        if port.device is not None:
            yield from _must_exist((*at, "device"), port.device, set(first), "devices", draft.where)


def _ports(draft: Draft) -> list[str]:
    """Every port must exist on its switch and be used once."""
    devices = [((*at, "port"), d.switch, d.port) for part in _DEVICES for at, d in _devices(draft, part)
               if d.port and not getattr(d, "wireless", "") and not getattr(d, "behind", "")]  # fmt: skip
    devices += [((*at, "viewing", "port"), r.viewing.switch, r.viewing.port)
                for at, r in draft.items("recorders") if r.viewing is not None]  # fmt: skip
    problems: list[str] = []
    parts: list[tuple[Location, str, int]] = []
    for part, fields, places in (("links", ("a", "b"), devices), ("ports", ("at",), parts)):
        for at, item in draft.items(part):
            for field in fields:
                name, _, port = getattr(item, field).rpartition(":")
                if not name or not (port.isascii() and port.isdigit()) or len(port) > 4:
                    problems.append(
                        f"{draft.where((*at, field))}: field {field}: found {getattr(item, field)!r}; "
                        "expected SWITCH:PORT such as core:25"
                    )
                    continue
                problems += _must_exist((*at, field), name, draft.names["switches"], "switches", draft.where)
                places.append(((*at, field), name, int(port)))
    return problems + _check_ports(draft, devices) + _check_ports(draft, parts)


def _check_ports(draft: Draft, ports: list[tuple[Location, str, int]]) -> list[str]:
    types = {t.name: t for t in draft.parts["switch_types"]}
    switches = {s.name: types.get(s.type) for s in draft.parts["switches"]}
    problems = []
    for location, name, port in ports:
        kind = switches.get(name)
        if kind is not None and not 1 <= port <= kind.ports:
            problems.append(
                f"{draft.where(location)}: field {location[-1]}: found port {port}; expected 1 to {kind.ports} "
                f"(switch {name} is a {kind.name})"
            )
    return problems + _used_once("port", [(f"{name}:{port}", at) for at, name, port in ports], draft.where)


def _wireless(draft: Draft) -> Iterator[str]:
    """A wireless camera stands at the port of an access point that has its network, and in the network's zone."""
    points = {(p.switch, p.port): p for _, p in draft.items("access_points")}
    for at, camera in draft.items("cameras"):
        if not camera.wireless:
            continue
        point = points.get((camera.switch, camera.port))
        networks = {n.name: n.zone for n in point.networks} if point else {}
        if camera.wireless not in networks:
            have = ", ".join(sorted(networks)) or f"no access point stands at {camera.switch}:{camera.port}"
            yield (
                f"{draft.where((*at, 'wireless'))}: field wireless: found {camera.wireless!r}; "
                f"expected a network of the access point at its switch and port: {have}"
            )
        elif networks[camera.wireless] != camera.zone:
            yield (
                f"{draft.where((*at, 'zone'))}: field zone: found {camera.zone!r}; expected "
                f"{networks[camera.wireless]!r}, the zone of the wireless network {camera.wireless}"
            )


def _used_once(what: str, uses: Iterable[tuple[str, Location]], where: Where) -> list[str]:
    first: dict[str, Location] = {}
    problems = []
    for value, location in uses:
        if value in first:
            problems.append(
                f"{where(location)}: field {location[-1]}: {what} {value!r} is already used at {where(first[value])}; "
                "expected each only once"
            )
        else:
            first[value] = location
    return problems
