"""Cameras planned onto the next free channel: bound once, to the lowest that is free in the plan and at the recorder."""

from __future__ import annotations

from collections.abc import Collection

from zentrale.errors import DeviceError
from zentrale.jobs.passwords.keyring import Keyring
from zentrale.logbook.channel_numbers import bind_next_channel, next_channels
from zentrale.logbook.store import Logbook
from zentrale.site.camera_file import camera_columns, camera_file_text, read_camera_rows
from zentrale.site.folder import SiteFolder, write_atomically
from zentrale.site.model import Plan, Recorder
from zentrale.site.reading import read_plan


def bind_next(keyring: Keyring, recorder: Recorder, taken: Collection[int]) -> None:
    """Bind those of `recorder` that are not bound yet, in the order of the plan; the keyring then has their numbers.

    taken: channels that record or point somewhere by what the recorder tells. Raises DeviceError where none is free.
    """
    plan = keyring.plan
    assert plan is not None
    waiting = [c for c in plan.cameras if c.name in plan.next_channels and c.recorder == recorder.name]
    bound = {name: number for name, (where, number) in next_channels(keyring.logbook).items() if where == recorder.name}
    new = [c for c in waiting if c.name not in bound]
    if not new:
        return
    others = {c.channel for c in plan.cameras if c.recorder == recorder.name and c not in new}
    most = plan.recorder_type(recorder).channels
    free = [n for n in range(1, most + 1) if n not in others and n not in taken]
    if len(free) < len(new):
        names = ", ".join(c.name for c in new[len(free) :])
        raise DeviceError(
            f"it has no free channel for {names}: {most} channels, {len(others)} planned, the others in use"
        )
    numbers = {camera.name: number for camera, number in zip(new, free, strict=False)}
    if not keyring.dry_run:
        for name, number in numbers.items():
            bind_next_channel(keyring.logbook, name, recorder.name, number)
    keyring.channels |= numbers


def write_next(folder: SiteFolder, plan: Plan, logbook: Logbook) -> dict[str, int]:
    """The bound numbers into cameras.csv, in place of `next`; returns them by camera. Raises PlanError where that is no plan."""
    bound = next_channels(logbook)
    numbers = {name: bound[name][1] for name in plan.next_channels if name in bound}
    if numbers:
        rows, comments = read_camera_rows(folder.cameras_file)
        rows |= {name: {**rows[name], "channel": str(number)} for name, number in numbers.items()}
        text = camera_file_text(rows, comments, camera_columns(folder.cameras_file))
        read_plan(folder, text, lambda: bound)
        write_atomically(folder.cameras_file, text.encode("utf-8"))
    return numbers
