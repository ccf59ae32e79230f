"""`--only`: which cameras a command is about."""

from __future__ import annotations

from collections.abc import Sequence
from fnmatch import fnmatchcase

from zentrale.errors import InputError
from zentrale.site.model import Camera, Plan
from zentrale.words import meant


def devices_named(plan: Plan, only: Sequence[str]) -> tuple[str, ...]:
    """Names of devices, cameras as `select` takes them and recorders by name. Raises InputError for a word that fits none."""
    recorders = {r.name for r in plan.recorders}
    words = [word.strip() for item in only for word in item.split(",") if word.strip()]
    cameras = [word for word in words if word not in recorders]
    named = [plan.device_of(c).name for c in select(plan, cameras)] if cameras else []
    return tuple(dict.fromkeys([*named, *(word for word in words if word in recorders)]))


def rows_named(plan: Plan, words: Sequence[str]) -> tuple[str, ...]:
    """Names of rows in the order of the plan: cameras as `select` takes them, each lens for itself, and recorders by name. Raises
    InputError for a word that fits none, with what was probably meant.
    """
    recorders, groups = [r.name for r in plan.recorders], [g.name for g in plan.groups]
    named: set[str] = set()
    for word in (word.strip() for item in words for word in item.split(",") if word.strip()):
        fits = [r for r in recorders if fnmatchcase(r, word)]
        fits += [c.name for c in plan.cameras if c.group == word or fnmatchcase(c.name, word)]
        if not fits:
            near = meant(word, [*(c.name for c in plan.cameras), *recorders, *groups])
            raise InputError(
                f"{word}: fits no camera, recorder or group{near}", "expected a name, or a pattern such as 'upper-*'"
            )
        named |= set(fits)
    return tuple(n for n in (*(c.name for c in plan.cameras), *recorders) if n in named)


def check_reachable(plan: Plan, name: str) -> None:
    """Raises InputError for a camera at a recorder's own port."""
    camera = next((c for c in plan.cameras if c.name == name), None)
    if camera is not None and camera.behind:
        raise InputError(
            f"{name}: at {camera.place}: only {camera.behind} reaches it",
            f"see to it by {camera.behind}'s own screen; `zentrale discover --details` shows what that tells of it",
        )


def select(plan: Plan, only: Sequence[str]) -> list[Camera]:
    """Cameras whose name, group or pattern stands in `only`, in plan order; all where it is empty.

    Raises InputError for a word that fits none.
    """
    words = [word.strip() for item in only for word in item.split(",") if word.strip()]
    if not words:
        return list(plan.cameras)
    fits = {word: [c for c in plan.cameras if c.group == word or fnmatchcase(c.name, word)] for word in words}
    for word, cameras in fits.items():
        if not cameras:
            groups = ", ".join(g.name for g in plan.groups)
            known = [*(c.name for c in plan.cameras), *(g.name for g in plan.groups)]
            raise InputError(
                f"{word}: fits no camera or group{meant(word, known)}",
                f"expected a camera name, a pattern such as 'upper-*', or a group: {groups}",
            )
    names = {c.name for cameras in fits.values() for c in cameras}
    return [c for c in plan.cameras if c.name in names]
