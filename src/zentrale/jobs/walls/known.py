"""What the site knows for drawing walls and writing them out: pictures that were taken, and addresses of streams."""

from __future__ import annotations

from collections.abc import Callable

from zentrale.errors import DeviceError, InputError
from zentrale.jobs.known.kept_pictures import kept_picture
from zentrale.jobs.known.planned import ref_of
from zentrale.jobs.streams.rtsp_only import kept_addresses, stream_addresses
from zentrale.logbook.evidence import latest
from zentrale.logbook.store import Logbook
from zentrale.planning.walls.wall_plan import plan_walls
from zentrale.site.folder import SiteFolder
from zentrale.site.model import Camera, Plan
from zentrale.words import MASK, masked

_STREAM, _PICTURE = "stream", "picture"
WALL = "wall"  # the kind of what a trial of a wall saw
_NOT_YET = "not known yet: `zentrale verify` or `zentrale discover --streams` finds it"


def pictures_of(folder: SiteFolder, logbook: Logbook) -> Callable[[Camera], bytes | None]:
    """The newest picture of a camera's main stream, as it was taken; None where there is none, or another lies in its place."""
    seen = {ref: o for ref, o in latest(logbook, _PICTURE).items() if ref.part == "main stream"}

    def picture(camera: Camera) -> bytes | None:
        own = seen.get(ref_of(camera, "main stream"))
        return kept_picture(folder, own) if own else None

    return picture


def walls_sheet(plan: Plan, folder: SiteFolder, logbook: Logbook) -> bytes:
    """All walls drawn on one sheet, as PNG; empty where none is planned."""
    from zentrale.output.wall_figure import walls_figure

    return walls_figure(plan, plan_walls(plan).walls, pictures_of(folder, logbook)) if plan.walls else b""


def addresses_of(plan: Plan, logbook: Logbook) -> Callable[[Camera, str], tuple[str, str]]:
    """The address of a camera's stream as it was played or found, else as its type has it; and why there is none."""
    measured = {
        (ref.name, ref.part.removesuffix(" stream")): str(o.content.get("url") or "")
        for ref, o in latest(logbook, _STREAM).items()
    }
    for o in latest(logbook, WALL).values():
        for turn in (t for panel in o.content["panels"] for t in panel["turns"] if t["url"]):
            measured.setdefault((turn["camera"], turn["stream"]), turn["url"])
    kept = {camera.name: kept_addresses(logbook, camera.name) for camera in plan.cameras}

    def address(camera: Camera, stream: str) -> tuple[str, str]:
        known = measured.get((camera.name, stream)) or kept[camera.name].get(stream, "")
        return _told(plan, camera, stream, known)

    return address


def planned_addresses(plan: Plan) -> Callable[[Camera, str], tuple[str, str]]:
    """The same where nothing was seen yet: as the types have it."""
    return lambda camera, stream: _told(plan, camera, stream, "")


def _told(plan: Plan, camera: Camera, stream: str, known: str) -> tuple[str, str]:
    if camera.behind:
        return "", f"only {camera.behind} reaches it"
    url = known or _by_type(plan, camera, stream)
    if MASK in url or masked(url) != url:
        return "", "a password is within its address, which no file keeps"
    return (url, "") if url else ("", _NOT_YET)


def _by_type(plan: Plan, camera: Camera, stream: str) -> str:
    """As the type names its path; empty where it does not, or nobody knows where the camera is."""
    if camera.address is None:
        return ""
    try:
        found = stream_addresses(plan, camera, str(camera.address), camera.rtsp_port).get(stream)
    except DeviceError:
        return ""
    return found.url if found else ""


def viewing_user(plan: Plan) -> str:
    """The planned account that may watch cameras and nothing else. Raises InputError where there is none."""
    users = [a.user for a in plan.accounts if a.role == "viewer" and a.on in ("all", "cameras")]
    if not users:
        raise InputError(
            "plan --with-users: no account is planned that may only watch cameras",
            'add one to site.toml: [[accounts]] with user, role = "viewer" and on = "cameras"',
        )
    return users[0]
