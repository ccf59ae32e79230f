"""What the site knows for drawing walls and writing them out: pictures that were taken, and addresses of streams."""

from __future__ import annotations

import hashlib
from collections.abc import Callable

from zentrale.errors import DeviceError, InputError, StorageError
from zentrale.jobs.known.planned import ref_of
from zentrale.jobs.streams.rtsp_only import kept_addresses, stream_addresses
from zentrale.logbook.evidence import Observation, latest
from zentrale.logbook.store import Logbook
from zentrale.planning.walls.wall_plan import plan_walls
from zentrale.site.folder import SiteFolder
from zentrale.site.model import Camera, Plan
from zentrale.subjects import Ref
from zentrale.words import MASK, masked

_STREAM, _PICTURE = "stream", "picture"
WALL = "wall"  # the kind of what a trial of a wall saw
_NOT_YET = "not known yet: `zentrale verify` or `zentrale discover --streams` finds it"


def pictures_of(folder: SiteFolder) -> Callable[[Camera], bytes | None]:
    """The newest picture of a camera's main stream, as it was taken; None where there is none, or another lies in its place."""
    seen = {ref: o for ref, o in _latest(folder, _PICTURE).items() if ref.part == "main stream"}

    def picture(camera: Camera) -> bytes | None:
        own = seen.get(ref_of(camera, "main stream"))
        try:
            data = (folder.output / "pictures" / own.content["file"]).read_bytes() if own else b""
        except OSError:
            return None
        return data if own and hashlib.sha256(data).hexdigest() == own.content["sha256"] else None

    return picture


def walls_sheet(plan: Plan, folder: SiteFolder) -> bytes:
    """All walls drawn on one sheet, as PNG; empty where none is planned."""
    from zentrale.output.wall_figure import walls_figure

    return walls_figure(plan, plan_walls(plan).walls, pictures_of(folder)) if plan.walls else b""


def addresses_of(plan: Plan, folder: SiteFolder) -> Callable[[Camera, str], tuple[str, str]]:
    """The address of a camera's stream as it was played or found, else as its type has it; and why there is none."""
    measured = {
        (ref.name, ref.part.removesuffix(" stream")): str(o.content.get("url") or "")
        for ref, o in _latest(folder, _STREAM).items()
    }
    for o in _latest(folder, WALL).values():
        for turn in (t for panel in o.content["panels"] for t in panel["turns"] if t["url"]):
            measured.setdefault((turn["camera"], turn["stream"]), turn["url"])
    kept: dict[str, dict[str, str]] = {}
    if folder.logbook_file.exists():
        with Logbook(folder.logbook_file) as logbook:
            kept = {camera.name: kept_addresses(logbook, camera.name) for camera in plan.cameras}

    def address(camera: Camera, stream: str) -> tuple[str, str]:
        if camera.behind:
            return "", f"only {camera.behind} reaches it"
        url = (
            measured.get((camera.name, stream))
            or kept.get(camera.name, {}).get(stream)
            or _by_type(plan, camera, stream)
        )
        if MASK in url or masked(url) != url:
            return "", "a password is within its address, which no file keeps"
        return (url, "") if url else ("", _NOT_YET)

    return address


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


def _latest(folder: SiteFolder, kind: str) -> dict[Ref, Observation]:
    """Nothing where no logbook is there, or it cannot be read: a wall is drawn without."""
    if not folder.logbook_file.exists():
        return {}
    try:
        with Logbook(folder.logbook_file) as logbook:
            return dict(latest(logbook, kind))
    except StorageError:
        return {}
